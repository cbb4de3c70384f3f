-- Concessions: permissions to deviate, each asked for by one person and approved by another. They change no result; in the figures what
-- they cover is counted apart.

create table concession (
    no              bigint primary key,
    -- Addresses of clauses, or patterns of them; and the same as `like` has them.
    clauses         text[] not null,
    patterns        text[] not null,
    -- Which nodes it follows; none if it is for those that were listed.
    filter          text,
    because         text not null,
    -- Whether it also covers what is unexamined or unknown.
    covers_unknown  boolean not null,
    asked_by        text not null,
    asked_at        timestamptz not null,
    until_at        timestamptz not null check (until_at > asked_at),
    decided_by      text,
    decided_at      timestamptz,
    is_approved     boolean,
    decided_because text,
    -- Before its time: withdrawn, or ended.
    ended_at        timestamptz check (ended_at <= until_at),
    ended_by        text,
    ended_because   text,
    -- When it was announced that it ends soon.
    announced_at    timestamptz,
    check (decided_by <> asked_by),
    check ((decided_by is null) = (decided_at is null) and (decided_by is null) = (is_approved is null)),
    check ((ended_by is null) = (ended_at is null))
);
create index concession_of_time on concession (asked_at);

-- Which nodes it covered, since and until when: a filter is not evaluated for the past.
create table concession_node (
    concession bigint not null references concession (no),
    node       integer not null references node (no),
    from_at    timestamptz not null,
    until_at   timestamptz check (until_at >= from_at)
);
create unique index concession_node_now on concession_node (concession, node) where until_at is null;
create index concession_node_of_node on concession_node (node);
