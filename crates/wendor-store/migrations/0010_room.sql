-- How long a request waited for room at upstreams that were full, and in which lane; null: in the usual one.
alter table ledger add column waited_ms bigint not null default 0;
alter table ledger add column lane text check (lane in ('batch'));
