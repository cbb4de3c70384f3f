-- Sweeps: runs over chosen nodes that a person asks for.

create table sweep (
    no         bigint generated always as identity primary key,
    -- By this nodes know it: numbers begin anew when the database is put back.
    id         uuid not null unique,
    -- What each node is to do, and which nodes in words.
    body       jsonb not null,
    which      text not null,
    who        text not null,
    because    text not null,
    asked_at   timestamptz not null,
    -- Nodes may begin it from then on, and until then; when they were woken for it.
    begins_at  timestamptz not null,
    ends_at    timestamptz not null,
    woken_at   timestamptz,
    stopped_at timestamptz,
    stopped_by text,
    -- The observing sweep whose findings it corrects, exactly.
    follows    bigint
);
create index sweep_asked on sweep (asked_at);
create index sweep_to_begin on sweep (begins_at) where woken_at is null;
create index sweep_follows on sweep (follows) where follows is not null;

-- The nodes of a sweep, and how far each is.
create table sweep_node (
    sweep       bigint not null references sweep (no) on delete cascade,
    node        uuid not null references node (id),
    -- When the sweep was asked for.
    was_in_line boolean not null,
    -- What it is to correct, if not all: by clause, what was wanted and found.
    observed    jsonb,
    -- How many clauses it was to correct, or, of an observing run, would.
    would       integer not null default 0,
    -- Why it does nothing of it.
    refused     jsonb,
    offered_at  timestamptz,
    begun_at    timestamptz,
    -- How far its run is, as it told last.
    progress    jsonb,
    told_at     timestamptz,
    done_at     timestamptz,
    -- Its run, if it is kept whole.
    run         uuid,
    came_of     jsonb,
    -- Of what it came to what is counted: over many nodes it is not read from there.
    status      text,
    is_in_line  boolean not null default false,
    corrected   integer not null default 0,
    with_left   boolean not null default false,
    -- How many clauses were left since they changed after they were observed.
    changed_since integer not null default 0,
    -- What an observing run would have corrected.
    found       jsonb,
    primary key (sweep, node)
) with (fillfactor = 70);
create index sweep_node_open on sweep_node (node) where done_at is null and refused is null;
