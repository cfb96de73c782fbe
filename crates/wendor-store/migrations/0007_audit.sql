-- What was done to the installation, one entry after the other, each with the hash of the one before. Written in the transaction of what it
-- tells of; never changed and never removed.
create table audit (
    number bigint primary key,
    at timestamptz not null,
    by text not null,
    address text not null,
    through text not null,
    action text not null,
    subject text not null,
    -- JSON in the very letters that are hashed, so no jsonb.
    before text,
    after text,
    previous bytea not null check (octet_length(previous) = 32),
    hash bytea not null unique check (octet_length(hash) = 32)
);
create index audit_by_person on audit (by, number desc);
create index audit_by_subject on audit (subject, number desc);
create index audit_by_action on audit (action, number desc);

-- Where the chain ends, so that entries cut off at its end are missed.
create table audit_head (
    only_row boolean primary key default true check (only_row),
    number bigint not null,
    hash bytea not null
);
insert into audit_head (number, hash) values (0, decode(repeat('00', 32), 'hex'));

-- Runs with the rights of whoever migrates: whoever serves may add an entry at the end and nothing else.
create function audit_follows() returns trigger language plpgsql security definer set search_path from current as $$
declare head audit_head;
begin
    select * into head from audit_head for update;
    if new.number <> head.number + 1 or new.previous <> head.hash then
        raise exception 'entry % of the audit does not follow entry %', new.number, head.number;
    end if;
    update audit_head set number = new.number, hash = new.hash;
    return new;
end $$;
create trigger audit_follows before insert on audit for each row execute function audit_follows();

create function never_changed() returns trigger language plpgsql as $$
begin
    raise exception 'what stands in % is never changed or removed', tg_table_name;
end $$;
create trigger audit_never_changed before update or delete on audit for each row execute function never_changed();
create trigger audit_never_emptied before truncate on audit for each statement execute function never_changed();
create trigger revision_never_changed before update or delete on revision for each row execute function never_changed();
create trigger rate_never_changed before update or delete on rate for each row execute function never_changed();
