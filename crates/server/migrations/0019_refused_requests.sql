-- Requests that were refused: who asked for what, from where. Equal ones are counted in one row.
create table refused_request (
    -- A person's name, a node's id, or nothing: a stranger.
    person     text not null default '',
    node       uuid,
    -- Method and address as the interface names it, with nothing of what the caller wrote.
    what       text not null,
    -- Address, or network (IPv6).
    from_where text not null,
    status     smallint not null,
    first_at   timestamptz not null,
    last_at    timestamptz not null,
    times      bigint not null,
    unique nulls not distinct (person, node, what, from_where, status)
);
create index refused_request_last_at on refused_request (last_at);
