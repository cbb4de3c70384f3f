-- Nodes, their keys, and how machines become nodes. What was so of a node is kept as intervals with two times: when it was so, and when
-- the server learned it.

create table node (
    id              uuid primary key,
    name            text not null,
    joined_at       timestamptz not null,
    revoked_at      timestamptz,
    retired_at      timestamptz,
    -- The change that retired it.
    retired_by      bigint,
    labels          jsonb not null default '{}',
    about           jsonb not null default '{}',
    -- What it is given by itself, over what its groups give it.
    own             jsonb not null default '{}',
    -- Whether its machine is that of a server, which its clauses must not stop.
    hosts_server    boolean not null default false,
    restart_pending jsonb,
    agent_upgrade   jsonb,
    -- The transaction that edited last what resolving asks of the node, so that what was committed late is caught up.
    input_xid       xid8 not null default pg_current_xact_id(),
    -- The node reported something about itself that is not resolved yet, since a hand-out was going on.
    input_pending   boolean not null default false,
    no              integer generated always as identity unique
);
-- The few that left the fleet.
create index node_gone on node (id) where retired_at is not null or revoked_at is not null;
-- Retired ones are searched by their names.
create index node_retired on node (retired_at) where retired_at is not null;
create index node_input_pending on node (id) where input_pending;
-- Lists in another order than by name find the nodes with their names here, and not in their long rows.
create index node_listed on node (id) include (name) where retired_at is null;
create unique index node_name on node (name) where retired_at is null;
-- Names that begin so.
create index node_name_start on node (name collate "C") where retired_at is null;
create index node_not_whole on node (id) where not (about ?& array['os.family', 'os.name', 'os.version', 'arch', 'cpu.count', 'memory.mib', 'init', 'packages', 'virtual']);
-- The few that have values of their own, which may end.
create index node_own_values on node (id) where own ? 'properties';
-- The few whose agent could not be upgraded.
create index node_agent_not_upgraded on node (id) where agent_upgrade ->> 'state' = 'failed';
create index node_revoked on node (id) where retired_at is null and revoked_at is not null;

create function node_input_edited() returns trigger language plpgsql as $$
begin
    new.input_xid := pg_current_xact_id();
    return new;
end $$;
create trigger node_input_edited before update of name, labels, about, own, hosts_server, retired_at on node for each row execute function node_input_edited();

create table node_key (
    spki_digest  bytea primary key,
    node         uuid not null references node (id),
    certificate  text not null,
    ends_at      timestamptz not null,
    issued_at    timestamptz not null,
    revoked_at   timestamptz,
    -- Whether it is noted that the certificate ends.
    ending_noted boolean not null default false
);
create index node_key_ends on node_key (ends_at) where revoked_at is null;
create index node_key_not_noted on node_key (ends_at) where revoked_at is null and not ending_noted;
create index node_key_of_node on node_key (node);

-- What was so of a node, as intervals with two times. Open ends are null.
create table node_attribute (
    id            bigint generated always as identity primary key,
    node          uuid not null references node (id),
    name          text not null check (name in ('name', 'labels', 'about', 'agent', 'restart_pending', 'agent_upgrade', 'freezes')),
    value         jsonb not null,
    from_at       timestamptz not null,
    until_at      timestamptz,
    learned_at    timestamptz not null,
    superseded_at timestamptz
);
create index node_attribute_history on node_attribute (node, name, from_at);
create unique index node_attribute_now on node_attribute (node, name) where until_at is null and superseded_at is null;

-- Lists are narrowed by labels more than by anything else: which nodes carry one is told by this index alone. It follows `node`, and
-- nothing else writes it.
create table node_label (
    label text not null,
    value text not null,
    node  uuid not null references node (id),
    primary key (label, value, node)
);
create index node_label_of_node on node_label (node);

create function node_label_follows() returns trigger language plpgsql as $$
begin
    delete from node_label where node = new.id;
    if new.retired_at is null then
        insert into node_label (label, value, node) select key, value, new.id from jsonb_each_text(new.labels);
    end if;
    return null;
end $$;
create trigger node_label_follows after insert or update of labels, retired_at on node for each row execute function node_label_follows();

-- Since and until when a node is of the fleet; it may come back.
create table node_life (
    node     integer not null references node (no),
    from_at  timestamptz not null,
    until_at timestamptz check (until_at >= from_at)
);
create unique index node_life_now on node_life (node) where until_at is null;
create index node_life_of_node on node_life (node);

create table invitation (
    id            uuid primary key,
    secret_digest bytea not null,
    labels        jsonb not null,
    uses_left     integer not null check (uses_left >= 0),
    made_by       text not null references person (name),
    made_at       timestamptz not null,
    expires_at    timestamptz not null,
    uses          integer not null,
    withdrawn_at  timestamptz,
    withdrawn_by  text references person (name)
);

-- The packages by which the agent is installed: of the server's own version and the two before.
create table agent_package (
    sha256       text primary key,
    version      text not null,
    format       text not null check (format in ('deb', 'rpm')),
    architecture text not null,
    glibc        text not null,
    contents     bytea not null,
    added_by     text not null references person (name),
    added_at     timestamptz not null,
    unique (version, format, architecture)
);
alter table agent_package alter contents set storage external;

-- The files that lines to paste fetch, each named by its SHA-256: they stay as they were printed, as long as their packages are there.
create table installer (
    sha256   text primary key,
    contents text not null,
    packages text[] not null,
    made_at  timestamptz not null
);

-- Which machines are let in without a person who looks at each of them. Its table is apart, so that a machine is looked up in it.
create table admission_rule (
    no        bigint generated always as identity primary key,
    body      jsonb not null,
    has_table boolean not null,
    placement jsonb not null,
    at_most   integer check (at_most > 0),
    because   text not null,
    made_by   text not null references person (name),
    made_at   timestamptz not null,
    until_at  timestamptz not null,
    ended_at  timestamptz,
    ended_by  text references person (name),
    check ((ended_by is null) = (ended_at is null))
);
create index admission_rule_open on admission_rule (until_at) where ended_at is null;

create table admission_machine (
    rule bigint not null references admission_rule (no),
    name text not null,
    body jsonb not null,
    primary key (rule, name)
);

-- A node whose certificate ended while it was away may ask again with the key that it has, without an invitation.
create table joining_request (
    id           uuid primary key,
    invitation   uuid references invitation (id),
    spki_digest  bytea not null,
    name         text not null,
    request      text not null,
    address      text not null,
    about        jsonb not null,
    requested_at timestamptz not null,
    decision     text check (decision in ('approved', 'denied')),
    decided_by   text references person (name),
    decided_at   timestamptz,
    because      text,
    node         uuid references node (id),
    known_node   uuid references node (id),
    -- The admission rule that let it in; or the one that it fits although it waits, and why.
    rule           bigint references admission_rule (no),
    waits_for_rule bigint references admission_rule (no),
    waits_because  text,
    -- Whether it was held against the admission rules that are in force.
    is_judged      boolean not null default false
);
create index joining_request_of_key on joining_request (spki_digest, requested_at desc);
create unique index joining_request_open on joining_request (spki_digest) where decision is null;
create index joining_request_waiting on joining_request (requested_at) where decision is null;
create index joining_request_to_judge on joining_request (requested_at) where decision is null and not is_judged;
create index joining_request_decided on joining_request (decided_at) where decision is not null;
create index joining_request_of_rule on joining_request (rule) where rule is not null;
create index joining_request_denied on joining_request (name) where decision = 'denied';
