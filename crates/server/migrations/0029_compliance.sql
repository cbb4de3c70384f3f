-- What compliance is counted from: intervals with two times, when something was so and when the server learned it.

alter table node add column no integer generated always as identity unique;

-- What is desired of one thing on a node: its address, and the digest of what is desired. Clauses that differ in nothing else share it.
create table clause_address (
    id      integer generated always as identity primary key,
    address text not null unique
);
create table desired_clause (
    id      integer generated always as identity primary key,
    address integer not null references clause_address (id),
    wanted  text not null unique
);

alter table clause
    add column desired   integer references desired_clause (id),
    add column severity  text,
    add column satisfies text[],
    add column baselines text[],
    add column releases  text[],
    -- Not those that only react: they are never examined.
    add column is_counted boolean;
insert into clause_address (address) select distinct body ->> 'address' from clause;
insert into desired_clause (address, wanted)
    select distinct on (body ->> 'wanted') a.id, body ->> 'wanted' from clause join clause_address a on a.address = body ->> 'address';
update clause set desired = d.id, severity = body ->> 'severity',
        satisfies = array(select json_array_elements_text(body -> 'satisfies')),
        baselines = array(select distinct (o ->> 'kit') || '/' || (o ->> 'baseline') from json_array_elements(body -> 'origins') o order by 1),
        releases = array(select distinct (o ->> 'kit') || '@' || (o ->> 'version') from json_array_elements(body -> 'origins') o order by 1),
        is_counted = not (starts_with(body ->> 'address', 'command:') and body -> 'properties' -> 'in_line_when' is null)
    from desired_clause d where d.wanted = body ->> 'wanted';
alter table clause
    alter column desired set not null,
    alter column severity set not null,
    alter column satisfies set not null,
    alter column baselines set not null,
    alter column releases set not null,
    alter column is_counted set not null;

-- Since and until when a node is of the fleet; it may come back.
create table node_life (
    node     integer not null references node (no),
    from_at  timestamptz not null,
    until_at timestamptz check (until_at >= from_at)
);
create index node_life_of_node on node_life (node);
create unique index node_life_now on node_life (node) where until_at is null;
insert into node_life (node, from_at, until_at) select no, joined_at, greatest(joined_at, least(revoked_at, retired_at)) from node;

-- The first full run of a node in a state, which examined all its clauses; and clauses that only a part of a run examined.
create table examined_state (
    node       integer not null references node (no),
    state      bigint not null references effective_state (id),
    from_at    timestamptz not null,
    learned_at timestamptz not null,
    primary key (node, state)
);
create table examined_clause (
    node       integer not null references node (no),
    desired    integer not null references desired_clause (id),
    from_at    timestamptz not null,
    learned_at timestamptz not null,
    primary key (node, desired)
);

-- What an examination found not to be as desired, or could not inspect, until one contradicts it. Before `until_learned_at` it was
-- known as open.
create table deviation (
    id               bigint generated always as identity primary key,
    node             integer not null references node (no),
    desired          integer not null references desired_clause (id),
    -- None: it could not be inspected.
    cause            text check (cause in ('failed', 'drift', 'needs_person', 'blocked', 'waiting')),
    from_at          timestamptz not null,
    until_at         timestamptz check (until_at >= from_at),
    learned_at       timestamptz not null,
    until_learned_at timestamptz check ((until_learned_at is null) = (until_at is null)),
    run              uuid not null
);
create unique index deviation_open on deviation (node, desired) include (id, cause) where until_at is null;
create index deviation_past on deviation (node, desired, from_at) where until_at is not null;

-- The window of a drift: while it lasted nobody knew of it.
create table deviation_doubt (
    node       integer not null references node (no),
    desired    integer not null references desired_clause (id),
    from_at    timestamptz not null,
    until_at   timestamptz not null,
    learned_at timestamptz not null
);
create index deviation_doubt_of_node on deviation_doubt (node, desired);

-- The time for which nothing was known of a node, since its last full run was too long ago. The present one is node_now.known_until.
create table examination_gap (
    node             integer not null references node (no),
    from_at          timestamptz not null,
    until_at         timestamptz not null check (until_at >= from_at),
    learned_at       timestamptz not null,
    until_learned_at timestamptz not null
);
create index examination_gap_of_node on examination_gap (node);

alter table node_now
    -- The time of the last run by the server's clock; until when the last one that examined the whole state counts, and when it was learned.
    add column ran_at timestamptz,
    add column known_until timestamptz,
    add column known_learned timestamptz;
update node_now set ran_at = full_began, known_until = overdue_at, known_learned = full_learned;
