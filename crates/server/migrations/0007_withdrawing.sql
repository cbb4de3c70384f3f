-- A release can be withdrawn: nothing serves it anew, and no requirement is solved by it. What was published stays, since
-- what nodes had is history.
alter table release
    add column withdrawn_at      timestamptz,
    add column withdrawn_by      text references person (name),
    add column withdrawn_because text,
    add constraint withdrawn_whole check ((withdrawn_at is null) = (withdrawn_by is null) and (withdrawn_at is null) = (withdrawn_because is null));
