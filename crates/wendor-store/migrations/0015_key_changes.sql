-- Which keys a change was of, so that one key's change is read alone: its number stands with the key, and how many changes were of one key
-- and of nothing else stands beside all of them.

alter table app_key add column changed bigint not null default 0;
create index app_key_by_change on app_key (changed);

alter table change_counter add column of_keys bigint not null default 0;
