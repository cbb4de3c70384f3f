-- What is wanted of nodes: kits, stages, groups, effective states; and what came of it: runs.
--
-- What was served, assigned and set is kept as intervals with two times (served, fact), since it cannot be recovered
-- later. Contents and effective states are stored once for the whole fleet, by digest.

create table content (
    name     text primary key,
    bytes    bytea not null,
    sealed   boolean not null default false,
    added_at timestamptz not null default now()
);

create table release (
    kit          text not null,
    version      text not null,
    digest       text not null,
    summary      text not null,
    requires     jsonb not null,
    files        jsonb not null,
    published_by text not null references person (name),
    published_at timestamptz not null default now(),
    primary key (kit, version)
);

create table stage (
    name  text primary key,
    place integer not null unique
);
insert into stage (name, place) values ('harbour', 0), ('open-water', 1);

create table served (
    id            bigint generated always as identity primary key,
    stage         text not null references stage (name),
    kit           text not null,
    version       text not null,
    served_by     text not null references person (name),
    from_at       timestamptz not null default now(),
    until_at      timestamptz,
    learned_at    timestamptz not null default now(),
    superseded_at timestamptz,
    foreign key (kit, version) references release (kit, version)
);
create unique index served_now on served (stage, kit) where until_at is null and superseded_at is null;

create table node_group (
    id            bigint generated always as identity primary key,
    name          text not null,
    body          jsonb not null,
    set_by        text not null,
    from_at       timestamptz not null default now(),
    until_at      timestamptz,
    learned_at    timestamptz not null default now(),
    superseded_at timestamptz
);
create unique index node_group_now on node_group (name) where until_at is null and superseded_at is null;
insert into node_group (name, body, set_by) values ('everyone', '{"name": "everyone", "settings": {}}', 'constans');

create table effective_state (
    digest   text primary key,
    body     jsonb not null,
    names    text[] not null,
    releases text[] not null,
    made_at  timestamptz not null default now()
);

alter table fact drop constraint fact_what_check;
alter table fact add constraint fact_what_check
    check (what in ('name', 'labels', 'about', 'agent', 'groups', 'stage', 'settings', 'wanted', 'unusable'));

create table node_wanted (
    node     uuid primary key references node (id),
    state    text references effective_state (digest),
    epoch    bigint not null,
    counter  bigint not null,
    settings jsonb not null,
    unusable text,
    explained jsonb not null default '{}',
    since    timestamptz not null default now()
);

create table node_now (
    node         uuid primary key references node (id),
    memory_epoch uuid not null,
    sequence     bigint not null,
    span         bigint,
    full_status  text,
    full_state   text,
    full_began   timestamptz,
    full_run     uuid
);

create table run_span (
    id               bigint generated always as identity primary key,
    node             uuid not null references node (id),
    state            text not null,
    mode             text not null,
    first_at         timestamptz not null,
    last_at          timestamptz not null,
    count            bigint not null,
    largest_gap_ms   bigint not null,
    first_learned_at timestamptz not null default now(),
    last_learned_at  timestamptz not null default now(),
    largest_delay_ms bigint not null
);
create index run_span_of_node on run_span (node, last_at desc);

create table run (
    node        uuid not null,
    run         uuid not null,
    began       timestamptz not null,
    mode        text not null,
    status      text not null,
    partial     boolean not null,
    state       text not null,
    report      jsonb not null,
    learned_at  timestamptz not null default now(),
    primary key (node, run, learned_at)
) partition by range (learned_at);
create index run_of_node on run (node, began desc);

-- Each check-in answers with a new mark that the next one must show. Who shows an older one than the last two is another
-- machine with the same identity, or an old image of this one. Two are known, since one answer may get lost.
create table node_mark (
    node         uuid primary key references node (id),
    current      uuid not null,
    before       uuid,
    double_since timestamptz
);

-- When the server itself could not hear: that is not held against the nodes.
create table server_alive (
    single  boolean primary key default true check (single),
    last_at timestamptz not null
);
create table server_down (
    from_at  timestamptz not null,
    until_at timestamptz not null
);
