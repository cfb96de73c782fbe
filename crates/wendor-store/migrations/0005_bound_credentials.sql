-- A kept credential is bound to the host that it is for, and says under which of the service's secrets it is kept. Those of the first form
-- have neither, until the service has kept them anew at its start.
alter table upstream_credential
    add column host text,
    -- The mark of the secret: enough to tell two apart, and nothing of it.
    add column kept_under text;
