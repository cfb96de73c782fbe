-- What happened. The ledger is append-only and partitioned by month from the start, because a table of hundreds of millions
-- of lines cannot be partitioned later without standing still; (at, entry_id) is fixed in the spool's entry, so that
-- draining an entry twice inserts it once. Partitions are made by the store before it inserts.

create table ledger (
    at timestamptz not null,
    entry_id text not null,
    kind text not null check (kind in ('request', 'adjustment')),
    request text not null,
    run text,
    step text,
    labels jsonb not null default '{}',
    team text not null,
    key text not null,
    route text not null,
    -- Null when no offer was tried.
    offer text,
    revision bigint not null,
    attempts integer not null,
    streamed boolean not null,
    tokens_input bigint not null,
    tokens_input_cached bigint not null,
    tokens_cache_written bigint not null,
    tokens_output bigint not null,
    tokens_reasoning bigint not null,
    tokens_estimated boolean not null,
    -- All null when the offer had no rate: unpriced is not zero.
    cost_input numeric(28, 12),
    cost_input_cached numeric(28, 12),
    cost_cache_written numeric(28, 12),
    cost_output numeric(28, 12),
    ended text not null,
    failure text,
    admitted_ms bigint not null,
    answering_ms bigint,
    first_token_ms bigint,
    whole_ms bigint not null,
    primary key (at, entry_id)
) partition by range (at);
create index ledger_by_request on ledger (request);
create index ledger_by_team on ledger (team, at desc);
create index ledger_by_run on ledger (run, at) where run is not null;

-- Plan, attempts and changes of a request: kept beside its line, for a shorter time.
create table request_detail (
    at timestamptz not null,
    entry_id text not null,
    detail jsonb not null,
    primary key (at, entry_id)
) partition by range (at);

-- Sums by hour, written in the same transaction as the lines they sum.
create table usage_hour (
    hour timestamptz not null,
    team text not null,
    key text not null,
    route text not null,
    -- Empty when no offer was tried.
    offer text not null,
    requests bigint not null,
    failures bigint not null,
    cancelled bigint not null,
    unpriced bigint not null,
    estimated bigint not null,
    tokens_input bigint not null,
    tokens_input_cached bigint not null,
    tokens_cache_written bigint not null,
    tokens_output bigint not null,
    tokens_reasoning bigint not null,
    cost numeric(28, 12) not null,
    -- Latency sketches in the core's stored form.
    first_token bytea not null,
    whole bytea not null,
    primary key (hour, team, key, route, offer)
);

-- What is used of a quota in a window, so that a restart does not forget it; `leased` is for several instances.
create table quota_window (
    quota text not null,
    window_start timestamptz not null,
    leased numeric(28, 12) not null default 0,
    settled numeric(28, 12) not null default 0,
    primary key (quota, window_start)
);
