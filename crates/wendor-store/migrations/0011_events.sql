-- What began, ended or happened, and whom it was told.

create table event (
    id bigint generated always as identity primary key,
    -- What makes it one, whichever instance sees it.
    key text not null unique,
    at timestamptz not null,
    kind text not null,
    state text not null check (state in ('began', 'ended', 'happened')),
    subject text not null,
    says text not null,
    why text not null
);
create index event_at on event (at desc, id desc);

-- An event on its way to a webhook: waiting until it is delivered or given up.
create table delivery (
    id bigint generated always as identity primary key,
    event bigint not null references event (id) on delete cascade,
    webhook text not null,
    state text not null default 'waiting' check (state in ('waiting', 'delivered', 'given-up')),
    attempts integer not null default 0,
    -- When it is tried next; while one tries it, when another may.
    next_at timestamptz not null,
    tried_at timestamptz,
    -- The status of the last answer, or why there was none.
    status integer,
    failed text
);
create index delivery_due on delivery (next_at) where state = 'waiting';
create index delivery_of on delivery (webhook, id desc);
create index delivery_event on delivery (event);

-- Forgets events that are older, with their deliveries.
create function forget_events(before timestamptz) returns bigint
    language plpgsql security definer set search_path from current as $$
declare
    gone bigint;
begin
    if before > now() - interval '30 days' then
        raise exception 'events are kept for 30 days at least';
    end if;
    delete from event where at < before;
    get diagnostics gone = row_count;
    return gone;
end $$;
revoke execute on function forget_events from public;

create or replace function let_serve(role_name text) returns void language plpgsql set search_path from current as $$
declare
    place text := current_schema();
begin
    execute format('grant usage on schema %I to %I', place, role_name);
    execute format('grant select on all tables in schema %I to %I', place, role_name);
    execute format('grant insert on audit, revision, rate, team, ledger, request_detail, inventory_event, event to %I', role_name);
    execute format(
        'grant insert, update on app_key, person, person_token, upstream_credential, inventory, ability_proof, usage_hour,
            quota_window, spool_place, delivery to %I', role_name);
    execute format('grant insert, update, delete on recovery_code to %I', role_name);
    execute format('grant update on change_counter, sign_in_rule to %I', role_name);
    execute format('grant execute on function make_month, drop_month, forget_events to %I', role_name);
end $$;
