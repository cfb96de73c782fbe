-- Two roles of the database: one that migrates and owns the tables, one that serves and can add to what is append-only and nothing else.
-- What serving needs beyond that stands in functions that run with the rights of whoever migrates.

-- The partition of a month.
create function make_month(parent text, month date) returns void
    language plpgsql security definer set search_path from current as $$
begin
    if parent not in ('ledger', 'request_detail', 'usage_hour') then
        raise exception '% comes in no partitions', parent;
    end if;
    execute format(
        'create table if not exists %I partition of %I for values from (%L) to (%L)',
        parent || to_char(month, '_YYYY_MM'), parent,
        to_char(month, 'YYYY-MM-01') || 'T00:00:00+00:00',
        to_char(month + interval '1 month', 'YYYY-MM-01') || 'T00:00:00+00:00'
    );
end $$;

-- Drops the partition of a month that is over; what is still written to goes for nobody.
create function drop_month(parent text, month date) returns void
    language plpgsql security definer set search_path from current as $$
begin
    if parent not in ('ledger', 'request_detail', 'usage_hour') then
        raise exception '% comes in no partitions', parent;
    end if;
    if (month + interval '1 month') at time zone 'UTC' > now() then
        raise exception 'the month % is not over', month;
    end if;
    execute format('drop table if exists %I', parent || to_char(month, '_YYYY_MM'));
end $$;
revoke execute on function make_month, drop_month from public;

-- Lets a role serve: everything is read; of what is append-only rows are added; the rest is added and changed; nothing is deleted but
-- recovery codes that others take the place of.
create function let_serve(role_name text) returns void language plpgsql set search_path from current as $$
declare
    place text := current_schema();
begin
    execute format('grant usage on schema %I to %I', place, role_name);
    execute format('grant select on all tables in schema %I to %I', place, role_name);
    execute format('grant insert on audit, revision, rate, team, ledger, request_detail, inventory_event to %I', role_name);
    execute format(
        'grant insert, update on app_key, person, person_token, upstream_credential, inventory, ability_proof, usage_hour,
            quota_window, spool_place to %I', role_name);
    execute format('grant insert, update, delete on recovery_code to %I', role_name);
    execute format('grant update on change_counter, sign_in_rule to %I', role_name);
    execute format('grant execute on function make_month, drop_month to %I', role_name);
end $$;
revoke execute on function let_serve from public;
