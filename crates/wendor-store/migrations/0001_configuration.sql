-- What the gateway is told. A revision is the whole configuration as one document and is never edited; keys, people and
-- rates live outside it, so that restoring an old revision brings back neither a revoked key nor an old price.

-- Bumped with every change that a running service has to know of; each instance reads it twice a second.
create table change_counter (
    only_row boolean primary key default true check (only_row),
    value bigint not null
);
insert into change_counter (value) values (0);

create table revision (
    number bigint primary key,
    made_at timestamptz not null,
    made_by text not null,
    note text not null default '',
    document jsonb not null
);

-- Every team that ever was: keys, people and ledger lines outlive the revision that names their team.
create table team (
    name text primary key,
    first_revision bigint not null references revision (number)
);

create table app_key (
    id text primary key,
    hash bytea not null unique,
    team text not null references team (name),
    label text not null,
    -- Null: every route of the team.
    routes text[],
    issued_at timestamptz not null,
    issued_by text not null,
    expires_at timestamptz,
    revoked_at timestamptz,
    revoked_by text
);
create index app_key_by_team on app_key (team, issued_at);

create table person (
    name text primary key,
    role text not null check (role in ('owner', 'operator', 'lead', 'viewer')),
    team text references team (name),
    -- Null until the person sets one.
    password_hash text,
    added_at timestamptz not null,
    added_by text not null,
    check ((role in ('lead', 'viewer')) = (team is not null))
);

-- What a person presents: a sign-in that works once, a session, or a token for programs.
create table person_token (
    id text primary key,
    hash bytea not null unique,
    person text not null references person (name),
    kind text not null check (kind in ('one-time', 'session', 'personal')),
    label text not null,
    issued_at timestamptz not null,
    expires_at timestamptz,
    ended_at timestamptz
);
create index person_token_by_person on person_token (person, issued_at);

-- Append-only: the rate of an offer from a day on.
create table rate (
    offer text not null,
    effective_on date not null,
    input numeric(18, 6) not null check (input >= 0),
    input_cached numeric(18, 6) check (input_cached >= 0),
    cache_written numeric(18, 6) check (cache_written >= 0),
    output numeric(18, 6) not null check (output >= 0),
    added_at timestamptz not null,
    added_by text not null,
    primary key (offer, effective_on)
);
