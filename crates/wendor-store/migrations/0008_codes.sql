-- One-time codes of an authenticator app. What they are made of is encrypted with the service's secret; pending until a first code has come.
alter table person
    add column codes_sealed bytea,
    add column codes_kept_under text,
    add column codes_since timestamptz,
    -- The step of the last code that was taken: none works twice.
    add column codes_step bigint not null default 0;

-- For who has lost the app. Each works once.
create table recovery_code (
    person text not null references person (name),
    hash bytea not null,
    used_at timestamptz,
    primary key (person, hash)
);

-- Which roles have to have codes.
create table sign_in_rule (
    only_row boolean primary key default true check (only_row),
    codes_required text[] not null default '{}'
);
insert into sign_in_rule default values;

alter table person_token
    -- When its person last signed in as themselves with it; what is guarded is done shortly after that alone.
    add column confirmed_at timestamptz,
    -- A token for programs, for which nobody can be asked to. Those that are there go on doing what they did.
    add column is_unasked boolean not null default false;
update person_token set is_unasked = true where kind = 'personal';
