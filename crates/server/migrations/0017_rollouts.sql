-- Rollouts: changes that reach their nodes in waves. Until the last wave the documents stay as they are, and the nodes that a rollout
-- reached are resolved by those of its change in their place: nothing else edits these.

create table rollout (
    change         bigint primary key references change (no),
    plan           jsonb not null,
    waves          integer not null check (waves > 0),
    status         text not null check (status in ('going', 'halted', 'done', 'turned_back')),
    began_at       timestamptz not null,
    -- The last wave that was handed out.
    reached        integer not null default 0,
    -- The change that is to hand out the next one.
    next_change    bigint references change (no),
    -- A person had the next wave begin whatever came of this one and those before it.
    accepted       integer not null default 0,
    halted_because text,
    halted_by      text,
    halted_at      timestamptz,
    ended_at       timestamptz,
    ended_by       text
);
create index rollout_open on rollout (change) where ended_at is null;

-- The waves that were handed out, each by a change.
create table rollout_wave (
    rollout        bigint not null references rollout (change),
    wave           integer not null,
    change         bigint not null references change (no),
    handed_out_at  timestamptz not null,
    -- Since when enough of its nodes have finished a full run of it.
    settling_since timestamptz,
    primary key (rollout, wave)
);

-- The nodes of a rollout, each with its wave.
create table rollout_node (
    rollout bigint not null references rollout (change),
    node    uuid not null references node (id),
    wave    integer not null,
    primary key (rollout, node)
);
create index rollout_node_of_node on rollout_node (node, rollout);
