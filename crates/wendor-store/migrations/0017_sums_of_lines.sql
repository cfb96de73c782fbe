-- Sums of whole hours and days by what roll-ups do not tell apart: runs, ends, labels. Made of the ledger's lines together with the sums of
-- their roll-ups, and taken out of use with these, since lines come in the transaction that changes their roll-ups.
create table line_sum (
    span text not null check (span in ('hour', 'day')),
    dimension text not null check (dimension in ('run', 'end', 'label')),
    -- The name of a label; empty for others.
    label text not null,
    start timestamptz not null,
    -- Empty for all teams together; of runs, which are of one team each, there are no such rows.
    team text not null,
    -- The run, the end, or the value of the label. What has none is what is missing to the sum of all.
    value text not null,
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
    primary key (span, dimension, label, team, start, value)
);
create index line_sum_by_start on line_sum (span, start, dimension, label);

-- What is not summed of a span, since there would be nearly as many sums as lines: such as a label that every request has a value of its own
-- for. It is read from the lines.
create table line_sum_left_out (
    span text not null,
    dimension text not null,
    label text not null,
    start timestamptz not null,
    -- Whether it is the sums by team that are left out, or those of all together.
    by_team boolean not null,
    primary key (span, dimension, label, by_team, start)
);

-- Thirds of months, of days.
alter table usage_sum drop constraint usage_sum_span_check;
alter table usage_sum add constraint usage_sum_span_check check (span in ('hour', 'day', 'third'));

-- A month's days from the 1st, from the 11th and from the 21st on.
create function third_of(at timestamptz) returns timestamptz language sql immutable as $$
    select date_trunc('month', at, 'UTC')
        + least((extract(day from at at time zone 'UTC')::int - 1) / 10, 2) * interval '240 hours'
$$;

create or replace function usage_changes(hours timestamptz[]) returns void
    language plpgsql security definer set search_path from current as $$
declare
    one bigint;
begin
    for one in select distinct extract(epoch from changed)::bigint / 3600 from unnest(hours) as changed order by 1 loop
        perform pg_advisory_xact_lock_shared(7420002, one::int);
    end loop;
    delete from usage_summed using unnest(hours) as changed
        where (span = 'hour' and start = changed)
            or (span = 'day' and start = to_timestamp(extract(epoch from changed)::bigint / 86400 * 86400))
            or (span = 'third' and start = third_of(changed));
end $$;

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
    -- Made of what stands in usage_hour and ledger, and made anew when that changes.
    execute format(
        'grant insert, update, delete on recovery_code, usage_sum, usage_summed, line_sum, line_sum_left_out to %I', role_name);
    execute format('grant update on change_counter, sign_in_rule to %I', role_name);
    execute format('grant execute on function make_month, drop_month, forget_events, usage_changes, may_sum to %I', role_name);
end $$;

-- No line is summed yet.
delete from usage_summed;
