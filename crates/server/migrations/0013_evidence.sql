-- Evidence: what was asked for, and its file in parts; the chain of days, which shows that the history was not altered since.

create table evidence (
    no       bigint generated always as identity primary key,
    question jsonb not null,
    formats  text[] not null,
    because  text,
    asked_by text not null,
    asked_at timestamptz not null,
    status   text not null default 'waiting' check (status in ('waiting', 'made', 'failed', 'stopped', 'removed')),
    -- Why it failed, or who stopped or removed it.
    ended    text,
    ended_at timestamptz,
    -- Of one that was made.
    rows     bigint,
    bytes    bigint,
    sha256   text,
    key      text,
    figures  jsonb,
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
    digest text not null,
    -- Of a day whose rows are no longer all kept: its leaves, so that what is left of them stays proven.
    leaves bytea
);
-- Digests cannot be compressed.
alter table learned_day alter column leaves set storage external;
