-- What runs leave behind beside themselves: drift episodes, which outlive the runs that saw them, and long texts, which
-- are stored once however often a node says the same.

create table episode (
    id             bigint generated always as identity primary key,
    node           uuid not null references node (id),
    address        text not null,
    severity       text not null,
    wanted         text not null,
    in_line_until  timestamptz not null,
    detected_at    timestamptz not null,
    detected_run   uuid not null,
    learned_at     timestamptz not null default now(),
    closed_at      timestamptz,
    closed_as      text check (closed_as in ('corrected', 'by_hand', 'by_rollout', 'not_wanted', 'retired')),
    closed_run     uuid,
    closed_learned_at timestamptz
);
create unique index episode_open on episode (node, address) where closed_at is null;
create index episode_of_node on episode (node, detected_at desc);

create table report_text (
    digest   text primary key,
    body     text not null,
    added_at timestamptz not null default now()
);

-- Where in the report which text belongs: from a JSON pointer (RFC 6901) to the text's digest.
alter table run add column texts jsonb not null default '{}';

alter table node_now
    add column full_learned    timestamptz,
    add column memory_lost_at  timestamptz,
    add column open_episodes   integer not null default 0;
