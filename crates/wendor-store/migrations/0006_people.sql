-- People can be disabled: what they present is refused from then on, everywhere.
alter table person add column disabled_at timestamptz, add column disabled_by text;

-- Every token for programs ends. Those of before have as long as a new one.
update person_token set expires_at = now() + interval '90 days' where kind = 'personal' and expires_at is null and ended_at is null;
