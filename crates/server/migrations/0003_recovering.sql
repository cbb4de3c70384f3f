-- A database that is put back to an earlier day must not put the fleet back: generations are numbered over the whole
-- fleet, so that one number in the protected folder tells whether this database is behind what was handed out.

create sequence generation_counter;
select setval('generation_counter', greatest((select coalesce(max(counter), 0) from node_wanted), 1));

create table recovery (
    id       bigint generated always as identity primary key,
    since    timestamptz not null default now(),
    epoch    bigint not null,
    handed_out bigint not null,
    ended_at timestamptz,
    ended_by text
);
create unique index recovery_open on recovery ((true)) where ended_at is null;

-- What each node said at its last check-in that it has.
alter table node_mark add column has_epoch bigint, add column has_counter bigint, add column has_state text;
