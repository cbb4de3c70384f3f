-- One way for everything that alters what nodes should be: a change is drafted, prepared, previewed and handed out, and stays on record.

-- One row.
create table fleet (
    single    boolean primary key default true check (single),
    -- It rises under the exclusive lock of a hand-out only.
    rev       bigint not null,
    -- The version of the resolving code that was used last.
    resolver  integer not null,
    epoch     bigint not null,
    -- It rises when the database was restored or moved, as the numbers of transactions are another database's then.
    xid_epoch bigint not null default 1
);

insert into fleet (rev, resolver, epoch) values (1, 0, 1);
-- Generations are numbered over the whole fleet: they only rise, whatever is restored.
create sequence generation_counter;

create table change (
    no                bigint generated always as identity primary key,
    epoch             bigint not null,
    kind              text not null,
    what              text not null,
    who               text not null,
    because           text,
    edits             jsonb not null,
    status            text not null,
    although_unusable boolean not null default false,
    is_preview        boolean not null default false,
    confirmed         jsonb,
    confirmed_by      text,
    base_rev          bigint,
    snapshot          text,
    impact            jsonb,
    refused           text,
    hint              text,
    goes_back         bigint references change (no),
    drafted_at        timestamptz not null,
    ended_at          timestamptz,
    -- All generations that its hand-out drew lie between these.
    first_counter     bigint,
    last_counter      bigint,
    -- Who may not hand out requests a change; groups and stages may ask for a second person.
    is_request        boolean not null default false,
    approved_by       text,
    -- A request that is repeated with its key is answered with the change that it made.
    request_key       text,
    -- How it goes if it reaches its nodes in waves; and of a change that hands out a wave, or turns a rollout back, the change of that rollout.
    rollout           jsonb,
    of_rollout        bigint references change (no),
    check (status in ('waiting', 'preparing', 'previewed', 'unconfirmed', 'requested', 'in_waves', 'handed_out', 'turned_back', 'refused', 'stopped', 'dropped'))
);
create index change_of_drafted on change (drafted_at);
create unique index change_of_request on change (who, request_key) where request_key is not null;

-- The nodes that a change alters, and how they were before.
create table change_node (
    change           bigint not null references change (no),
    node             uuid not null references node (id),
    state            bigint,
    placement        bigint,
    sources          bigint,
    unusable         text,
    before_state     bigint,
    before_placement bigint,
    -- Whether the agent is given something else; otherwise only what is shown of the node differs.
    is_new           boolean not null,
    taken_at         timestamptz,
    primary key (change, node)
);
create index change_node_of_node on change_node (node, change);
create index change_node_outstanding on change_node (change) where is_new and taken_at is null;
