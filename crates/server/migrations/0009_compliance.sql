-- What compliance is counted from: intervals with two times, when something was so and when the server learned it.

-- The first full run of a node in a state, which examined all its clauses.
create table examined_state (
    node       integer not null references node (no),
    state      bigint not null references effective_state (id),
    from_at    timestamptz not null,
    learned_at timestamptz not null,
    primary key (node, state)
);
create index examined_state_of_learned on examined_state using brin (learned_at);

-- The first examination of clauses that only a part of a run examined.
create table examined_clause (
    node       integer not null references node (no),
    desired    integer not null references desired_clause (id),
    from_at    timestamptz not null,
    learned_at timestamptz not null,
    primary key (node, desired)
);
create index examined_clause_of_learned on examined_clause using brin (learned_at);

-- What an examination found not to be as desired, or could not inspect, until one contradicts it. Before `until_learned_at` it was known
-- as open.
create table deviation (
    id               bigint generated always as identity primary key,
    node             integer not null references node (no),
    desired          integer not null references desired_clause (id),
    -- None: it could not be inspected.
    cause            text check (cause in ('failed', 'drift', 'drill', 'needs_person', 'blocked', 'waiting')),
    from_at          timestamptz not null,
    until_at         timestamptz check (until_at >= from_at),
    learned_at       timestamptz not null,
    until_learned_at timestamptz,
    run              uuid not null,
    check ((until_learned_at is null) = (until_at is null))
);
create index deviation_of_learned on deviation using brin (learned_at);
create index deviation_of_until_learned on deviation using brin (until_learned_at);
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
create index deviation_doubt_of_learned on deviation_doubt using brin (learned_at);
create index deviation_doubt_of_node on deviation_doubt (node, desired);
-- What is or was in doubt at a moment.
create index deviation_doubt_at on deviation_doubt using gist (tstzrange(from_at, greatest(from_at, until_at)));

-- The time for which nothing was known of a node, since its last full run was too long ago. The present one is node_now.known_until.
create table examination_gap (
    node             integer not null references node (no),
    from_at          timestamptz not null,
    until_at         timestamptz not null check (until_at >= from_at),
    learned_at       timestamptz not null,
    until_learned_at timestamptz not null
);
create index examination_gap_of_learned on examination_gap using brin (until_learned_at);
create index examination_gap_of_node on examination_gap (node);

-- The figures of all nodes at the end of each day, as they are known: what would take long to count again for each chart. Of all clauses
-- together (dimension `all`), and by the keys of some dimensions. Days keep the ends that they had when they were counted first.
create table day_figure (
    day             date not null,
    ends_at         timestamptz not null,
    dimension       text not null,
    key             text not null,
    compliant       bigint not null,
    in_doubt        bigint not null,
    noncompliant    bigint not null,
    unexamined      bigint not null,
    unknown         bigint not null,
    nodes_compliant bigint not null,
    nodes_deviating bigint not null,
    nodes_critical  bigint not null,
    nodes_not_known bigint not null,
    conceded        bigint not null,
    nodes_conceded  bigint not null,
    primary key (day, dimension, key)
);

-- Days whose figures a later report may have altered. Many nodes report at once: no two wait for one row.
create table day_mark (
    id  bigint generated always as identity primary key,
    day date not null
);
