-- Evidence: what was asked for, and its file in parts; the chain of days, which shows that the history was not altered since.

create table evidence (
    no         bigint generated always as identity primary key,
    question   jsonb not null,
    formats    text[] not null,
    because    text,
    asked_by   text not null,
    asked_at   timestamptz not null,
    status     text not null default 'waiting' check (status in ('waiting', 'made', 'failed', 'stopped', 'removed')),
    -- Why it failed, or who stopped or removed it.
    ended      text,
    ended_at   timestamptz,
    -- Of one that was made.
    rows       bigint,
    bytes      bigint,
    sha256     text,
    key        text,
    figures    jsonb,
    check ((status = 'waiting') = (ended_at is null))
);
create index evidence_of_asked on evidence (asked_at);
create table evidence_part (
    evidence bigint not null references evidence (no),
    place    integer not null,
    bytes    bytea not null,
    primary key (evidence, place)
);
-- It is compressed already.
alter table evidence_part alter column bytes set storage external;

create table learned_day (
    day    date primary key,
    rows   bigint not null,
    root   text not null,
    digest text not null
);
create index deviation_of_learned on deviation using brin (learned_at);
create index deviation_of_until_learned on deviation using brin (until_learned_at);
create index examined_state_of_learned on examined_state using brin (learned_at);
create index examined_clause_of_learned on examined_clause using brin (learned_at);
create index examination_gap_of_learned on examination_gap using brin (until_learned_at);
create index deviation_doubt_of_learned on deviation_doubt using brin (learned_at);

alter table job
    alter column change drop not null,
    add column evidence bigint references evidence (no),
    add check ((change is null) <> (evidence is null));

-- Of a day whose rows are no longer all kept: its leaves, so that what is left of them stays proven.
alter table learned_day add column leaves bytea;
alter table learned_day alter column leaves set storage external;

-- Runs that were reported in each hour, with the clauses that they corrected and that failed.
create table run_hour (
    from_at     timestamptz primary key,
    runs        bigint not null,
    corrections bigint not null,
    failures    bigint not null
);
