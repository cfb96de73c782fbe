-- How long a request waited for room at upstreams that were full, and in which lane; null: in the usual one.
alter table ledger add column waited_ms bigint not null default 0;
alter table ledger add column lane text check (lane in ('batch'));
-- The lane of what a key asks; null: the usual one, unless a request says otherwise.
alter table app_key add column lane text check (lane in ('batch'));
