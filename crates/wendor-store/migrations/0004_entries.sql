-- The ledger's lines are of four kinds, of which each says what it is: a request, an attempt that used something and did not answer, a
-- call of a check, a signed adjustment. Images are counted and priced by the piece. Roll-ups come in partitions as the ledger does, so
-- that each table can be kept for a time of its own. Where a month has no partition its lines go into a default one: a missing partition
-- must never stop the drain. How far a spool is drained stands here too, in the transaction that drains it.

alter table ledger drop constraint ledger_kind_check;
alter table ledger add constraint ledger_kind_check check (kind in ('request', 'attempt', 'check', 'adjustment'));
-- Null for an adjustment, which ends nothing, and for an attempt, whose request has an end of its own.
alter table ledger alter column ended drop not null;
alter table ledger add column images bigint not null default 0;
-- Null where it was not told.
alter table ledger add column image_size text;
alter table ledger add column cost_images numeric(28, 12);
-- Of an adjustment: why.
alter table ledger add column reason text;
create table ledger_default partition of ledger default;
create table request_detail_default partition of request_detail default;

alter table usage_hour rename to usage_hour_before;
alter index usage_hour_pkey rename to usage_hour_before_pkey;
create table usage_hour (
    hour timestamptz not null,
    team text not null,
    key text not null,
    route text not null,
    -- Empty when no offer was tried.
    offer text not null,
    -- Counts and latencies are of requests alone; tokens, images and money of everything that used any.
    requests bigint not null default 0,
    failures bigint not null default 0,
    cancelled bigint not null default 0,
    estimated bigint not null default 0,
    checks bigint not null default 0,
    -- Attempts that used something and did not answer, and what of tokens and money is theirs.
    attempts bigint not null default 0,
    attempt_tokens_input bigint not null default 0,
    attempt_tokens_input_cached bigint not null default 0,
    attempt_tokens_cache_written bigint not null default 0,
    attempt_tokens_output bigint not null default 0,
    attempt_tokens_reasoning bigint not null default 0,
    attempt_cost numeric(28, 12) not null default 0,
    -- Lines of any kind without a price, which the money leaves out.
    unpriced bigint not null default 0,
    tokens_input bigint not null default 0,
    tokens_input_cached bigint not null default 0,
    tokens_cache_written bigint not null default 0,
    tokens_output bigint not null default 0,
    tokens_reasoning bigint not null default 0,
    images bigint not null default 0,
    cost numeric(28, 12) not null default 0,
    -- Latency sketches in the core's stored form.
    first_token bytea not null,
    whole bytea not null,
    primary key (hour, team, key, route, offer)
) partition by range (hour);
create table usage_hour_default partition of usage_hour default;
insert into usage_hour (hour, team, key, route, offer, requests, failures, cancelled, unpriced, estimated, tokens_input,
    tokens_input_cached, tokens_cache_written, tokens_output, tokens_reasoning, cost, first_token, whole)
    select hour, team, key, route, offer, requests, failures, cancelled, unpriced, estimated, tokens_input,
    tokens_input_cached, tokens_cache_written, tokens_output, tokens_reasoning, cost, first_token, whole from usage_hour_before;
drop table usage_hour_before;

-- Up to where the lines of a spool are in the ledger.
create table spool_place (
    spool text primary key,
    segment bigint not null,
    byte_offset bigint not null,
    drained_at timestamptz not null
);

-- Which installation this database is of: a spool on a shared volume is drained by instances of its own installation alone.
create table installation (
    only_row boolean primary key default true check (only_row),
    id text not null
);
insert into installation (id) values (gen_random_uuid()::text);

-- Images are priced by the piece; sizes as {"1024x1024": "0.08"}.
alter table rate add column image numeric(18, 6) check (image >= 0);
alter table rate add column image_sizes jsonb not null default '{}';
