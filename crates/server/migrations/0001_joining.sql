-- Joining: who may invite, invitations, requests, nodes and their keys, and what was so when.
--
-- What a node was, said of itself and was called is kept as intervals with two times from the first day on (fact): when
-- it was so, and when the server learned it. These cannot be recovered later.

create table person (
    name       text primary key,
    roles      text[] not null,
    created_at timestamptz not null default now()
);

create table token (
    digest     bytea primary key,
    person     text not null references person (name),
    created_at timestamptz not null default now(),
    expires_at timestamptz
);

create table invitation (
    id            uuid primary key,
    secret_digest bytea not null,
    labels        jsonb not null,
    uses_left     integer not null check (uses_left >= 0),
    made_by       text not null references person (name),
    made_at       timestamptz not null default now(),
    expires_at    timestamptz not null
);

create table node (
    id         uuid primary key,
    name       text not null,
    joined_at  timestamptz not null default now(),
    revoked_at timestamptz,
    retired_at timestamptz
);
create unique index node_name on node (name) where retired_at is null;

create table node_key (
    spki_digest bytea primary key,
    node        uuid not null references node (id),
    certificate text not null,
    ends_at     timestamptz not null,
    issued_at   timestamptz not null default now(),
    revoked_at  timestamptz
);
create index node_key_of_node on node_key (node);

create table joining_request (
    id           uuid primary key,
    invitation   uuid not null references invitation (id),
    spki_digest  bytea not null unique,
    name         text not null,
    request      text not null,
    address      text not null,
    about        jsonb not null,
    requested_at timestamptz not null default now(),
    decision     text check (decision in ('approved', 'denied')),
    decided_by   text references person (name),
    decided_at   timestamptz,
    because      text,
    node         uuid references node (id)
);
create index joining_request_waiting on joining_request (requested_at) where decision is null;

-- One fact about one node, as an interval with two times. Open ends are null.
create table fact (
    id            bigint generated always as identity primary key,
    node          uuid not null references node (id),
    what          text not null check (what in ('name', 'labels', 'about', 'agent')),
    value         jsonb not null,
    from_at       timestamptz not null,
    until_at      timestamptz,
    learned_at    timestamptz not null default now(),
    superseded_at timestamptz
);
create unique index fact_now on fact (node, what) where until_at is null and superseded_at is null;
create index fact_history on fact (node, what, from_at);

-- Check-ins in one unbroken row of kept promises are one span; one that comes late begins another.
create table heard (
    id              bigint generated always as identity primary key,
    node            uuid not null references node (id),
    first_at        timestamptz not null,
    last_at         timestamptz not null,
    count           bigint not null,
    largest_gap_ms  bigint not null,
    promised_at     timestamptz not null,
    clock_off_ms    bigint not null
);
create index heard_of_node on heard (node, last_at desc);

create table audit_trail (
    id      bigint generated always as identity primary key,
    at      timestamptz not null default now(),
    who     text not null,
    did     text not null,
    subject text not null,
    detail  jsonb not null default '{}'
);
