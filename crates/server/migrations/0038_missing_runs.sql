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
