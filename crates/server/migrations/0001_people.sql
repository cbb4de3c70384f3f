-- People sign in by password (argon2) or once by a link, and programs by tokens. All times come from the server's clock, bound by each
-- statement: no column has one by itself.

-- A person who was removed stays in the record of what they did.
create table person (
    name       text primary key,
    roles      text[] not null,
    created_at timestamptz not null,
    password   text,
    removed_at timestamptz
);

create table token (
    digest     bytea primary key,
    person     text not null references person (name),
    created_at timestamptz not null,
    expires_at timestamptz,
    made_for   text not null,
    id         uuid not null unique,
    name       text not null,
    last_at    timestamptz
);
create index token_of_person on token (person);

create table one_time_link (
    digest     bytea primary key,
    person     text references person (name),
    made_at    timestamptz not null,
    expires_at timestamptz not null,
    used_at    timestamptz
);

create table session (
    digest     bytea primary key,
    person     text not null references person (name),
    address    text not null,
    made_at    timestamptz not null,
    last_at    timestamptz not null,
    expires_at timestamptz not null
);
create index session_of_person on session (person);

create table sign_in_failure (
    id      bigint generated always as identity primary key,
    name    text not null,
    address text not null,
    at      timestamptz not null
);
create index sign_in_failure_at on sign_in_failure (at);

-- Requests that were refused: who asked for what, from where. Equal ones are counted in one row.
create table refused_request (
    -- A person's name, a node's id, or nothing: a stranger.
    person     text not null default '',
    node       uuid,
    -- Method and address as the interface names it, with nothing of what the caller wrote.
    what       text not null,
    -- Address, or network (IPv6).
    from_where text not null,
    status     smallint not null,
    first_at   timestamptz not null,
    last_at    timestamptz not null,
    times      bigint not null,
    unique nulls not distinct (person, node, what, from_where, status)
);
create index refused_request_last_at on refused_request (last_at);
