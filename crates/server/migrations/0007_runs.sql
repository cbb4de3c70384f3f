-- Runs, in the order in which they were learned, which is that of their sequence: a node's clock may be wrong.

-- Runs that are kept whole, in a partition for each month.
create table run (
    node       uuid not null,
    run        uuid not null,
    began      timestamptz not null,
    mode       text not null,
    status     text not null,
    partial    boolean not null,
    state      text not null,
    report     jsonb not null,
    learned_at timestamptz not null,
    -- Where in the report which long text belongs: from a JSON pointer (RFC 6901) to the text's digest.
    texts      jsonb not null default '{}',
    primary key (node, run, learned_at)
) partition by range (learned_at);
create index run_learned on run (learned_at desc);
create index run_of_node on run (node, learned_at desc);

-- Runs that found again what the run before them found, and changed nothing, are counted in its span. What only lengthens it touches no
-- index, and finds room beside the row.
create table run_span (
    id               bigint generated always as identity primary key,
    node             uuid not null references node (id),
    state            text not null,
    mode             text not null,
    first_at         timestamptz not null,
    last_at          timestamptz not null,
    count            bigint not null,
    largest_gap_ms   bigint not null,
    first_learned_at timestamptz not null,
    last_learned_at  timestamptz not null,
    largest_delay_ms bigint not null,
    -- How many clauses one of them found at most as they were read before: the metadata of their files was the same since.
    known_by_metadata integer not null default 0,
    -- What they found, as a digest; none if all was in line.
    found            text,
    -- The first of them, which is kept whole; none if all was in line.
    run              uuid,
    status           text not null,
    check ((found is null) = (run is null))
) with (fillfactor = 80);
create index run_span_of_node on run_span (node, id);
create index run_span_run on run_span (node, run) where run is not null;

-- Long texts of reports, stored once however often a node reports the same.
create table report_text (
    digest   text primary key,
    body     text not null,
    added_at timestamptz not null
);
create index report_text_added on report_text (added_at);

-- What is not in line at a node as of its last full run.
create table node_exception (
    node     uuid not null references node (id),
    address  text not null,
    severity text not null,
    outcome  text not null,
    cause    text,
    message  text not null,
    since    timestamptz not null,
    run      uuid not null,
    -- The node's name, which never changes: what is not in line is listed without looking for it.
    name     text not null,
    primary key (node, address)
);
create index node_exception_of_address on node_exception (address);

-- Runs of which no report came, by the sequence of a later one: the agent dropped their reports, or the server refused them. When the run
-- before them was, and the one after them, by the server's clock.
create table missing_runs (
    node       integer not null references node (no),
    runs       bigint not null check (runs > 0),
    after_at   timestamptz not null,
    before_at  timestamptz not null check (before_at >= after_at),
    learned_at timestamptz not null
);
create index missing_runs_of_node on missing_runs (node, learned_at);

-- Runs that were reported in each hour, with the clauses that they corrected and that failed.
create table run_hour (
    from_at     timestamptz primary key,
    runs        bigint not null,
    corrections bigint not null,
    failures    bigint not null
);
