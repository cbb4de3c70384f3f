-- The catalogue of controls, each version as it was set: a question about a moment is answered by the one of that moment. And machines
-- that an inventory names.

create table control_catalogue (
    no       bigint generated always as identity primary key,
    body     jsonb not null,
    set_by   text not null,
    because  text,
    from_at  timestamptz not null,
    until_at timestamptz check (until_at >= from_at)
);
create unique index control_catalogue_now on control_catalogue ((true)) where until_at is null;

-- The controls of each version that clauses can satisfy; headings are not among them.
create table control (
    catalogue bigint not null references control_catalogue (no),
    id        text not null,
    title     text not null,
    scope     text,
    primary key (catalogue, id)
);

-- Which nodes are in a scope, since and until when: a filter is not evaluated for the past. Controls with the same scope share it.
create table scope_node (
    scope    text not null,
    node     integer not null references node (no),
    from_at  timestamptz not null,
    until_at timestamptz check (until_at >= from_at)
);
create unique index scope_node_now on scope_node (scope, node) where until_at is null;
create index scope_node_of_node on scope_node (node);

create table asset_list (
    is_only boolean primary key default true check (is_only),
    set_by  text not null,
    set_at  timestamptz not null
);

-- Machines that an inventory names, whether they ever joined or not.
create table asset (
    name   text primary key,
    fields jsonb not null
);
