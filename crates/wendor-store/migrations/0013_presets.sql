-- The part of all input that the preset of a route added, by its part of the request's length.

alter table ledger add column tokens_preset bigint not null default 0;

alter table usage_hour
    add column tokens_preset bigint not null default 0,
    add column attempt_tokens_preset bigint not null default 0;
