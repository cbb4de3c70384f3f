-- What is desired of nodes. Each clause is stored once for the whole fleet, and a state is the list of its clauses: the states of nodes of
-- one role differ in few.

create table node_group (
    id            bigint generated always as identity primary key,
    name          text not null,
    body          jsonb not null,
    set_by        text not null,
    from_at       timestamptz not null,
    until_at      timestamptz,
    learned_at    timestamptz not null,
    superseded_at timestamptz,
    change        bigint references change (no)
);
create unique index node_group_now on node_group (name) where until_at is null and superseded_at is null;

-- The group of all nodes is there from the beginning, wherever the clock stands.
insert into node_group (name, body, set_by, from_at, learned_at) values ('everyone', '{"name": "everyone", "settings": {}}', 'constans', 'epoch', 'epoch');

-- Addresses of clauses, by number.
create table clause_address (
    id      integer generated always as identity primary key,
    address text not null unique
);

-- What is desired of one thing on a node: its address, and the digest of what is desired. Clauses that differ in nothing else share it.
create table desired_clause (
    id      integer generated always as identity primary key,
    address integer not null references clause_address (id),
    wanted  text not null unique
);

create table clause (
    id         bigint generated always as identity primary key,
    digest     text not null unique,
    body       json not null,
    desired    integer not null references desired_clause (id),
    severity   text not null,
    satisfies  text[] not null,
    baselines  text[] not null,
    releases   text[] not null,
    -- Not those that only react: they are never examined.
    is_counted boolean not null
);

-- The contents and sealed values that clauses name.
create table clause_content (
    name   text not null,
    clause bigint not null references clause (id),
    primary key (name, clause)
);

create table effective_state (
    digest   text primary key,
    releases text[] not null,
    made_at  timestamptz not null,
    clauses  bigint[] not null,
    id       bigint generated always as identity unique
);

-- What nodes of the same groups have in common.
create table placement (
    id              bigint generated always as identity primary key,
    digest          text not null unique,
    stage           text not null,
    groups          jsonb not null,
    mode            text not null,
    settings        jsonb not null,
    settings_digest text not null,
    overdue_secs    bigint not null,
    -- Which group assigns which baseline, each with all that it includes: [[group, baseline, [baseline, …]], …].
    assignments     jsonb not null default '[]'
);

-- Where the parts of a desired state come from.
create table state_sources (
    id     bigint generated always as identity primary key,
    digest text not null unique,
    body   jsonb not null
);

-- The columns refer to states, placements and sources, none of which is ever removed while a node has it; a foreign key would be checked
-- row by row while a hand-out holds its lock. No index but the key: a hand-out's updates stay within their pages.
create table node_wanted (
    node           uuid primary key references node (id),
    state          bigint,
    placement      bigint,
    sources        bigint,
    unusable       text,
    change         bigint,
    epoch          bigint not null,
    counter        bigint not null,
    state_since    timestamptz,
    settings_since timestamptz not null,
    -- The state that is known to be examined, so that most nodes need not be looked up in examined_state. Noted some seconds later, and
    -- only believed where it is the state that is wanted.
    examined_state bigint
) with (fillfactor = 45);

-- States that were made for a change that came to nothing, or that nothing has any more, and since when they can have been used by another
-- change: those that nothing has are deleted in the background.
create table dropped_state (
    state bigint primary key,
    since timestamptz not null
);
