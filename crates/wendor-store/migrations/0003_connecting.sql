-- Bringing servers in: their credentials as Wendor keeps them, what they serve, and what has been proven of them. All of it lives
-- outside revisions: restoring one must bring back neither a replaced credential nor an old proof.

-- A credential, encrypted with the service's secret. The catalogue refers to it by its id.
create table upstream_credential (
    id text primary key,
    upstream text not null,
    -- Nonce and cipher text; null once it is erased.
    sealed bytea,
    added_at timestamptz not null,
    added_by text not null,
    -- The one that it took the place of, which is tried where this one is refused, until its own time is over.
    replaces text references upstream_credential (id),
    usable_until timestamptz
);

-- What an upstream served when it was last looked at.
create table inventory (
    upstream text primary key,
    looked_at timestamptz not null,
    -- Why the last look saw nothing, if it did not; what was seen before stays.
    failed text,
    seen jsonb not null
);

-- What changed from one look to the next.
create table inventory_event (
    id bigint generated always as identity primary key,
    at timestamptz not null,
    upstream text not null,
    -- Null: of the server itself.
    model text,
    kind text not null check (kind in ('appeared', 'vanished', 'weights', 'size', 'version')),
    before text,
    after text
);
create index inventory_event_by_time on inventory_event (at desc);

-- The last proof of each ability of an offer.
create table ability_proof (
    offer text not null,
    proof text not null,
    at timestamptz not null,
    by text not null,
    -- Null: proven. Otherwise what came instead.
    absent text,
    -- Digest of the weights then.
    digest text,
    primary key (offer, proof)
);

-- Checks of upstreams cost money too, and stand in the ledger as what they are.
alter table ledger drop constraint ledger_kind_check;
alter table ledger add constraint ledger_kind_check check (kind in ('request', 'adjustment', 'check'));
