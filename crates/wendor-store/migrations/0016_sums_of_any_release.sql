-- What takes sums out of use follows from the change itself, whoever makes it: an instance of a release before 0014 that still drains beside
-- newer ones does not know that there are sums. Newer ones call usage_changes before they lock rows, so that it waits for nobody here.

create function usage_changed() returns trigger
    language plpgsql security definer set search_path from current as $$
begin
    perform usage_changes(array(select distinct hour from changed));
    return null;
end $$;
revoke execute on function usage_changed from public;

-- After the statement: whoever sums these hours does not see its rows yet, and is waited for before the marks are taken away.
create trigger usage_hour_inserted after insert on usage_hour
    referencing new table as changed for each statement execute function usage_changed();
create trigger usage_hour_updated after update on usage_hour
    referencing new table as changed for each statement execute function usage_changed();

-- What such an instance drained before this migration may be missing in sums.
delete from usage_summed;
