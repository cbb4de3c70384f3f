-- Published releases of kits, and which stage serves which. Contents are stored once for the whole fleet, by digest.

create table content (
    name     text primary key,
    bytes    bytea not null,
    sealed   boolean not null default false,
    added_at timestamptz not null
);

-- A release can be withdrawn: nothing serves it anew, and no requirement is solved by it. What was published stays, since what nodes had
-- is history.
create table release (
    kit               text not null,
    version           text not null,
    digest            text not null,
    summary           text not null,
    requires          jsonb not null,
    files             jsonb not null,
    published_by      text not null references person (name),
    published_at      timestamptz not null,
    withdrawn_at      timestamptz,
    withdrawn_by      text references person (name),
    withdrawn_because text,
    primary key (kit, version),
    constraint withdrawn_whole check ((withdrawn_at is null) = (withdrawn_by is null) and (withdrawn_at is null) = (withdrawn_because is null))
);

create table stage (
    name          text primary key,
    place         integer not null unique,
    second_person boolean not null default false
);

-- Stages are the operator's: what is served of one that was removed stays on record.
create table served (
    id            bigint generated always as identity primary key,
    stage         text not null,
    kit           text not null,
    version       text not null,
    served_by     text not null references person (name),
    from_at       timestamptz not null,
    until_at      timestamptz,
    learned_at    timestamptz not null,
    superseded_at timestamptz,
    change        bigint references change (no),
    foreign key (kit, version) references release (kit, version)
);
create unique index served_now on served (stage, kit) where until_at is null and superseded_at is null;
