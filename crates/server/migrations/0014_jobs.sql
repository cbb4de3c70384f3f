-- Long work.

-- It is claimed for a short time, which is prolonged while it goes on; each writing of the work checks the fence, so that an owner who was
-- away for too long writes nothing any more. Its progress is written apart from the work's own transaction, so that others see it.
create table job (
    id           bigint generated always as identity primary key,
    kind         text not null,
    change       bigint references change (no),
    what         text not null,
    who          text not null,
    done         bigint not null default 0,
    total        bigint not null default 0,
    reached      uuid,
    owner        uuid,
    fence        bigint not null default 0,
    leased_until timestamptz,
    tries        integer not null default 0,
    stop_by      text,
    queued_at    timestamptz not null,
    ended_at     timestamptz,
    evidence     bigint references evidence (no),
    check ((change is null) <> (evidence is null))
);
create index job_open on job (id) where ended_at is null;
