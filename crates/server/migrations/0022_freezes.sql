-- A freeze is a row of its own: it takes no lock of the desired state, waits for no change, and reaches nodes apart from it.
create sequence freeze_counter;
create table change_freeze (
    no         bigint generated always as identity primary key,
    -- Rises when it is set and when it is ended.
    counter    bigint not null default nextval('freeze_counter'),
    who        text not null,
    because    text not null,
    is_for_all boolean not null,
    clauses    text[] not null,
    set_at     timestamptz not null,
    until_at   timestamptz not null,
    ended_at   timestamptz,
    ended_by   text,
    ended_because text
);
create index freeze_in_force on change_freeze (until_at) where ended_at is null;
create index freeze_newest on change_freeze (counter);
create table freeze_node (
    freeze_no bigint not null references change_freeze (no),
    node   uuid not null references node (id),
    primary key (freeze_no, node)
);

-- Which freezes a node holds is an attribute of it.
alter table node_attribute drop constraint node_attribute_name_check;
alter table node_attribute add constraint node_attribute_name_check
    check (name in ('name', 'labels', 'about', 'agent', 'restart_pending', 'freezes'));

-- It is no setting of a group any more.
update node_group set body = body #- '{settings,freeze}' where body #> '{settings,freeze}' is not null;
