-- A revision may carry bounds that the person set who made it: when failures or cost of its requests pass one within its time, the revision
-- before it is put in force again.

alter table revision
    -- As {"seconds": 600, "failed_percent": 20, "cost": "5"}; null without bounds.
    add column guard jsonb,
    -- The revision that this one undid by itself.
    add column undoes bigint references revision (number),
    -- Why, in a sentence.
    add column undone_for text;
