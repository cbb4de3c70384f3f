-- People sign in by password (argon2) or once by a link; sessions of the console; exceptions of each node's last full run.

alter table person add column password text;
alter table token add column made_for text;

create table one_time_link (
    digest     bytea primary key,
    person     text references person (name),
    made_at    timestamptz not null default now(),
    expires_at timestamptz not null,
    used_at    timestamptz
);

create table session (
    digest     bytea primary key,
    person     text not null references person (name),
    address    text not null,
    made_at    timestamptz not null default now(),
    last_at    timestamptz not null default now(),
    expires_at timestamptz not null
);
create index session_of_person on session (person);

create table sign_in_failure (
    id      bigint generated always as identity primary key,
    name    text not null,
    address text not null,
    at      timestamptz not null default now()
);
create index sign_in_failure_at on sign_in_failure (at);

-- What is not in line at a node now, kept up as its reports come. What is alike follows from the digest of its state.
create table node_exception (
    node     uuid not null references node (id),
    address  text not null,
    severity text not null,
    outcome  text not null,
    cause    text,
    said     text not null,
    since    timestamptz not null,
    run      uuid not null,
    primary key (node, address)
);
create index node_exception_of_address on node_exception (address);
