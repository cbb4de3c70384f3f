-- States that were made for a change that came to nothing, and since when they can have been used by another one: those that
-- nothing has are deleted in the background.
create table dropped_state (
    state bigint primary key,
    since timestamptz not null
);
