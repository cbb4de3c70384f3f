-- Check-ins, and how each node is now.

-- Check-ins in one unbroken row of kept promises are one span; one that comes late begins another.
create table heard (
    id             bigint generated always as identity primary key,
    node           uuid not null references node (id),
    first_at       timestamptz not null,
    last_at        timestamptz not null,
    count          bigint not null,
    largest_gap_ms bigint not null,
    promised_at    timestamptz not null,
    clock_off_ms   bigint not null
) with (fillfactor = 80);
create index heard_of_node on heard (node, id);

-- One row for each node of the fleet, which a check-in without news and a run without news change in one statement each, and by which the
-- fleet is counted at once. What lists ask of every node is first in its row, where it is read soonest. Written at every check-in and
-- every run: no index on what each of them alters, and room beside the row.
create table node_now (
    node                     uuid primary key references node (id),
    clock_off_ms             bigint not null default 0,
    open_episodes            integer not null default 0,
    is_refused               boolean not null default false,
    is_unusable              boolean not null default false,
    -- Until then it is heard and in line, and none of its problems begins; null if something is to be shown of it now. How far its clock
    -- may be off is for those who ask.
    quiet_until              timestamptz generated always as (case when full_status = 'in_line' and not is_refused and not is_unusable and heard_at is not null
        and duplicate_identity_since is null and memory_lost_at is null then least(silent_after, overdue_at) end) stored,
    heard_at                 timestamptz,
    on_time_until            timestamptz,
    silent_after             timestamptz,
    overdue_at               timestamptz,
    full_status              text,
    full_state               text,
    full_began               timestamptz,
    full_run                 uuid,
    full_learned             timestamptz,
    memory_epoch             uuid,
    sequence                 bigint,
    span                     bigint,
    memory_lost_at           timestamptz,
    -- Each check-in answers with a new mark that the next one must show. Who shows an older one than the last two is another machine with
    -- the same identity, or an old image of this one. Two are known, since one answer may get lost.
    mark                     uuid,
    mark_before              uuid,
    duplicate_identity_since timestamptz,
    -- What it reported that it has.
    has_epoch                bigint,
    has_counter              bigint,
    has_state                text,
    -- The span of check-ins that it lengthened.
    heard_span               bigint references heard (id),
    promised_at              timestamptz,
    -- The digest of what it reported about itself, so that what it repeats need not be compared.
    attributes_digest        bytea,
    -- After so many seconds without a full run its runs are overdue.
    overdue_secs             bigint,
    -- How much it has sent today of reports that are kept whole: there is a bound.
    kept_day                 date,
    kept_bytes               bigint not null default 0,
    -- The last contact of a node whose silence is noted.
    silence_noted            timestamptz,
    -- The time of the last run by the server's clock; until when the last one that examined the whole state counts, and when it was
    -- learned.
    ran_at                   timestamptz,
    known_until              timestamptz,
    known_learned            timestamptz,
    -- The half hour in which it ends. Nodes that run as they should have one that is still to come: the few others are found by it, and not
    -- every run writes the index.
    known_half_hour          timestamptz generated always as (date_bin('30 minutes', known_until, '2001-01-01 00:00+00')) stored
) with (fillfactor = 80);
-- The few nodes of one status are found among all without looking at each. A status seldom changes, so check-ins do not write here.
create index node_now_status on node_now (full_status);
create index node_now_known on node_now (known_half_hour);

-- That servers are alive. A database that was put back knows fewer beats than were counted outside it.
create table server_alive (
    single  boolean primary key default true check (single),
    last_at timestamptz not null,
    beats   bigint not null default 0
);

-- When the server itself could not hear: that is not held against the nodes.
create table server_down (
    from_at  timestamptz not null,
    until_at timestamptz not null
);

-- A database that is put back to an earlier day must not put the fleet back: generations are numbered over the whole fleet, so that one
-- number in the protected folder tells whether this database is behind what was handed out.
create table recovery (
    id         bigint generated always as identity primary key,
    since      timestamptz not null,
    epoch      bigint not null,
    handed_out bigint not null,
    ended_at   timestamptz,
    ended_by   text
);
create unique index recovery_open on recovery ((true)) where ended_at is null;

-- Nodes that are asked to check in at once: by whom, and why.
create table wake (
    no      bigint generated always as identity primary key,
    at      timestamptz not null,
    who     text not null,
    because text
);
create index wake_at on wake (at);

-- Which nodes a wake is for, whether the server held a request of each then, and when each checked in after it.
create table wake_node (
    wake        bigint not null references wake (no) on delete cascade,
    node        uuid not null references node (id),
    was_waiting boolean not null,
    answered_at timestamptz,
    primary key (wake, node)
);
create index wake_node_unanswered on wake_node (node) where answered_at is null;

-- The newest wake of each node that ever held a request or was woken; it stays when the wake is deleted. A node whose request is held is
-- asked again by the end of it.
create table node_wake (
    node        uuid primary key references node (id),
    wake        bigint not null default 0,
    waits_until timestamptz
) with (fillfactor = 50);
create index node_wake_of on node_wake (wake);

-- Self-tests of nodes: offered at check-ins until they are reported or over.
create table self_test (
    no          bigint generated always as identity primary key,
    node        uuid not null references node (id),
    who         text not null,
    asked_at    timestamptz not null,
    ends_at     timestamptz not null,
    was_waiting boolean not null,
    -- What its content says, and the digest of its state.
    nonce       text not null,
    state       text not null,
    offered_at  timestamptz,
    fetched_at  timestamptz,
    reported_at timestamptz,
    report      jsonb
);
create index self_test_open on self_test (node) where reported_at is null;
-- What nodes were asked to tell of what is there, and told.
create table inspection (
    no          bigint generated always as identity primary key,
    node        uuid not null references node (id),
    kind        text not null,
    -- All of the kind without one.
    name        text,
    who         text not null,
    because     text not null,
    asked_at    timestamptz not null,
    ends_at     timestamptz not null,
    was_waiting boolean not null,
    told_at     timestamptz,
    -- As it was told: properties stay in their order.
    report      json
);
create index inspection_open on inspection (node) where told_at is null;
create index inspection_asked on inspection (asked_at);
-- Clauses of nodes that were broken on purpose, and what became of them.
create table drill (
    no            bigint generated always as identity primary key,
    node          uuid not null references node (id),
    clauses       text[] not null,
    -- After so long the agent undoes what nobody has put right.
    for_secs      bigint not null,
    at_once       boolean not null,
    who           text not null,
    because       text not null,
    asked_at      timestamptz not null,
    offered_until timestamptz not null,
    was_waiting   boolean not null,
    told          json,
    over_at       timestamptz
);
create index drill_open on drill (node) where over_at is null;
create index drill_asked on drill (asked_at);
-- Nodes whose runs somebody follows, and the run of each that its agent told of last.
create table followed (
    node        uuid primary key references node (id),
    began_at    timestamptz not null,
    until_at    timestamptz not null,
    was_waiting boolean not null,
    run         uuid,
    run_told    json
);
create table followed_clause (
    node uuid not null references followed (node) on delete cascade,
    run  uuid not null,
    no   bigint not null,
    told json not null,
    primary key (node, no)
);
create index self_test_asked on self_test (asked_at);
