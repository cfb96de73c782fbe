-- Sums of whole hours and days by fewer things than usage_hour tells apart, so that a report over months reads thousands of rows. Made
-- behind what they sum by whoever serves, and taken out of use again in the transaction that changes what they sum.

create table usage_sum (
    span text not null check (span in ('hour', 'day')),
    -- What it tells apart, a letter each of key, team, route and offer; empty for all together.
    apart text not null,
    start timestamptz not null,
    -- Empty where it is not told apart.
    team text not null,
    key text not null,
    route text not null,
    offer text not null,
    requests bigint not null,
    failures bigint not null,
    cancelled bigint not null,
    unpriced bigint not null,
    estimated bigint not null,
    checks bigint not null,
    attempts bigint not null,
    attempt_tokens_input bigint not null,
    attempt_tokens_input_cached bigint not null,
    attempt_tokens_cache_written bigint not null,
    attempt_tokens_output bigint not null,
    attempt_tokens_reasoning bigint not null,
    attempt_tokens_preset bigint not null,
    attempt_cost numeric(28, 12) not null,
    images bigint not null,
    tokens_input bigint not null,
    tokens_input_cached bigint not null,
    tokens_cache_written bigint not null,
    tokens_output bigint not null,
    tokens_reasoning bigint not null,
    tokens_preset bigint not null,
    cost numeric(28, 12) not null,
    first_token bytea not null,
    whole bytea not null,
    primary key (span, apart, start, team, key, route, offer)
);

-- The spans whose sums are right. One that is not in here may have rows of before.
create table usage_summed (
    span text not null,
    start timestamptz not null,
    primary key (span, start)
);

-- Part of every transaction that changes rows of usage_hour, before it does: whoever sums these hours waits until it is over, and it for
-- them; what they have summed does not count any more.
create function usage_changes(hours timestamptz[]) returns void
    language plpgsql security definer set search_path from current as $$
declare
    one bigint;
begin
    for one in select distinct extract(epoch from changed)::bigint / 3600 from unnest(hours) as changed order by 1 loop
        perform pg_advisory_xact_lock_shared(7420002, one::int);
    end loop;
    delete from usage_summed using unnest(hours) as changed
        where (span = 'hour' and start = changed)
            or (span = 'day' and start = to_timestamp(extract(epoch from changed)::bigint / 86400 * 86400));
end $$;
revoke execute on function usage_changes from public;

-- Part of the transaction that sums so many hours from one on; `false` while somebody changes or sums one of them.
create function may_sum(start timestamptz, hours int) returns boolean
    language plpgsql security definer set search_path from current as $$
begin
    for ahead in 0 .. hours - 1 loop
        if not pg_try_advisory_xact_lock(7420002, (extract(epoch from start)::bigint / 3600)::int + ahead) then
            return false;
        end if;
    end loop;
    return true;
end $$;
revoke execute on function may_sum from public;

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
    -- Made of what stands in usage_hour, and made anew when that changes.
    execute format('grant insert, update, delete on recovery_code, usage_sum, usage_summed to %I', role_name);
    execute format('grant update on change_counter, sign_in_rule to %I', role_name);
    execute format('grant execute on function make_month, drop_month, forget_events, usage_changes, may_sum to %I', role_name);
end $$;
