-- A freeze takes no lock of the desired state, waits for no change, and reaches nodes apart from it.

create sequence freeze_counter;

create table change_freeze (
    no            bigint generated always as identity primary key,
    -- It rises when the freeze is set and when it is ended.
    counter       bigint not null default nextval('freeze_counter'),
    who           text not null,
    because       text not null,
    is_for_all    boolean not null,
    clauses       text[] not null,
    set_at        timestamptz not null,
    until_at      timestamptz not null,
    ended_at      timestamptz,
    ended_by      text,
    ended_because text,
    -- What a concession covers is not corrected meanwhile, if its approval says so.
    concession    bigint unique references concession (no)
);
create index freeze_in_force on change_freeze (until_at) where ended_at is null;
create index freeze_newest on change_freeze (counter);

create table freeze_node (
    freeze_no bigint not null references change_freeze (no),
    node      uuid not null references node (id),
    primary key (freeze_no, node)
);
