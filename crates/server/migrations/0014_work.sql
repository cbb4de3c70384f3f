-- Long work that is under way. It is told apart from the work's own transaction, so that others see how far it is.
create unlogged table work (
    id       uuid primary key,
    what     text not null,
    who      text not null,
    done     bigint not null,
    total    bigint not null,
    began_at timestamptz not null,
    told_at  timestamptz not null default now()
);
