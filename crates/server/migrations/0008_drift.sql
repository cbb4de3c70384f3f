-- Episodes of drift, which outlive the runs that found them.

create table episode (
    id                bigint generated always as identity primary key,
    node              uuid not null references node (id),
    address           text not null,
    severity          text not null,
    wanted            text not null,
    in_line_until     timestamptz not null,
    detected_at       timestamptz not null,
    detected_run      uuid not null,
    learned_at        timestamptz not null,
    closed_at         timestamptz,
    closed_as         text check (closed_as in ('corrected', 'by_hand', 'by_rollout', 'not_wanted', 'retired')),
    closed_run        uuid,
    closed_learned_at timestamptz,
    -- The drill in which it was broken on purpose; such episodes are counted apart.
    drill             bigint
);
create index episode_corrected on episode (closed_at) where closed_as = 'corrected';
create index episode_of_node on episode (node, detected_at desc);
create unique index episode_open on episode (node, address) where closed_at is null;

-- What nodes had on record of the time in which something drifted. It names people: it is kept apart from reports, and for less long.
create table related_records (
    node       uuid not null references node (id),
    run        uuid not null,
    address    text not null,
    body       jsonb not null,
    learned_at timestamptz not null,
    primary key (node, run, address)
);
create index related_records_learned on related_records (learned_at);
