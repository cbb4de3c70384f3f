-- One way for everything that alters what nodes should be: a change is drafted, prepared, previewed and handed out, and stays
-- on record. What a hand-out writes of a node is narrow.

-- rev rises under the exclusive lock of a hand-out only; resolver is the version of the resolving code that was used last.
create table fleet (
    single   boolean primary key default true check (single),
    rev      bigint not null,
    resolver integer not null,
    epoch    bigint not null
);
insert into fleet (rev, resolver, epoch)
    select 1, 0, greatest(1, (select max(epoch) from node_wanted), (select max(epoch) from recovery));

-- What nodes of the same groups have in common.
create table placement (
    id           bigint generated always as identity primary key,
    digest       text not null unique,
    stage        text not null,
    groups       jsonb not null,
    mode         text not null,
    settings     jsonb not null,
    settings_digest text not null,
    overdue_secs bigint not null
);
-- Where the parts of a desired state come from.
create table state_sources (
    id     bigint generated always as identity primary key,
    digest text not null unique,
    body   jsonb not null
);
alter table effective_state add column id bigint generated always as identity unique;

insert into placement (digest, stage, groups, mode, settings, settings_digest, overdue_secs)
    select distinct on (digest) digest, stage, groups, mode, settings, 'before:' || md5(settings::text), overdue_secs from (
        select 'before:' || md5(concat_ws(' ', node.stage, node.groups, w.settings, w.overdue_secs)) as digest, node.stage, node.groups,
            coalesce(w.settings ->> 'mode', '') as mode, w.settings, coalesce(w.overdue_secs, 2760) as overdue_secs
        from node join node_wanted w on w.node = node.id) as before;
alter table node_wanted rename to node_wanted_before;
alter table node_wanted_before rename constraint node_wanted_pkey to node_wanted_before_pkey;

-- The columns refer to states, placements and sources, none of which is ever removed while a node has it; a foreign key would be
-- checked row by row while a hand-out holds its lock. No index but the key: a hand-out's updates stay within their pages.
create table node_wanted (
    node           uuid primary key references node (id),
    state          bigint,
    placement      bigint,
    sources        bigint,
    unusable       text,
    change         bigint,
    epoch          bigint not null,
    counter        bigint not null,
    state_since    timestamptz,
    settings_since timestamptz not null
) with (fillfactor = 45);
insert into node_wanted (node, state, placement, unusable, epoch, counter, state_since, settings_since)
    select w.node, s.id, p.id, w.unusable, w.epoch, w.counter, case when s.id is not null then w.since end, w.since
    from node_wanted_before w join node on node.id = w.node left join effective_state s on s.digest = w.state
        join placement p on p.digest = 'before:' || md5(concat_ws(' ', node.stage, node.groups, w.settings, w.overdue_secs));
drop table node_wanted_before;

create table change (
    no                bigint generated always as identity primary key,
    epoch             bigint not null,
    kind              text not null,
    what              text not null,
    who               text not null,
    because           text,
    edits             jsonb not null,
    status            text not null check (status in
                          ('waiting', 'preparing', 'previewed', 'unconfirmed', 'handed_out', 'refused', 'stopped', 'dropped')),
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
    last_counter      bigint
);
create index change_of_drafted on change (drafted_at);

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
    wave             integer not null default 1,
    taken_at         timestamptz,
    primary key (change, node)
);
create index change_node_of_node on change_node (node, change);
create index change_node_outstanding on change_node (change) where is_new and taken_at is null;

-- Long work. It is claimed for a short time, which is prolonged while it goes on; each writing of the work checks the fence, so
-- that an owner who was away for too long writes nothing any more.
create table job (
    id           bigint generated always as identity primary key,
    kind         text not null,
    change       bigint not null references change (no),
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
    ended_at     timestamptz
);
create index job_open on job (id) where ended_at is null;
drop table activity;

alter table node_group add column change bigint references change (no);
alter table served add column change bigint references change (no);

-- At each edit of what resolving asks of a node, so that what was committed late is caught up.
alter table node
    add column input_xid     xid8 not null default pg_current_xact_id(),
    -- The node said something about itself that is not resolved yet, since a hand-out was going on.
    add column input_pending boolean not null default false;
create function node_input_edited() returns trigger language plpgsql as $$
begin
    new.input_xid := pg_current_xact_id();
    return new;
end $$;
create trigger node_input_edited before update of name, labels, about, retired_at on node for each row execute function node_input_edited();
create index node_input_pending on node (id) where input_pending;

alter table node drop column stage, drop column groups, drop column mode;
-- What is resolved of a node is on record with its changes.
alter table node_attribute drop constraint if exists fact_what_check;
alter table node_attribute drop constraint if exists node_attribute_name_check;
delete from node_attribute where name in ('groups', 'stage', 'settings', 'unusable', 'wanted');
alter table node_attribute add constraint node_attribute_name_check
    check (name in ('name', 'labels', 'about', 'agent', 'restart_pending'));

-- Stages are the operator's: what is served of one that was removed stays on record.
alter table served drop constraint served_stage_fkey;
delete from stage where not exists (select 1 from served where served.stage = stage.name)
    and not exists (select 1 from node_group where body ->> 'stage' = stage.name);

-- The audit trail is only added to, and a job chains its entries by digest in the order in which they were committed.
alter table audit_trail add column xid xid8 not null default pg_current_xact_id();
create table audit_chain (
    place  bigint primary key,
    entry  bigint not null unique references audit_trail (id),
    digest text not null
);
create index audit_trail_of_subject on audit_trail (subject, id);
create function only_added_to() returns trigger language plpgsql as $$
begin
    raise exception 'the audit trail is only added to';
end $$;
create trigger only_added_to before update or delete or truncate on audit_trail for each statement execute function only_added_to();
create trigger only_added_to before update or delete or truncate on audit_chain for each statement execute function only_added_to();
