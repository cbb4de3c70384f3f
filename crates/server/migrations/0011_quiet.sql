-- How each node is now, with what lists ask of every node first in its row, where it is read soonest, and with the time until
-- which nothing is to be said of it: the fleet is counted by the nodes of which something is.
alter table node_now rename to node_was;
alter table node_was rename constraint node_now_pkey to node_was_pkey;
create table node_now (
    node           uuid primary key references node (id),
    clock_off_ms   bigint not null default 0,
    open_episodes  integer not null default 0,
    is_refused     boolean not null default false,
    is_unusable    boolean not null default false,
    -- Until then it is heard and in line, and none of its troubles begins; null if something is to be said of it now. How far
    -- its clock may be off is for those who ask.
    quiet_until    timestamptz generated always as (case when full_status = 'in_line' and not is_refused and not is_unusable and heard_at is not null
        and double_since is null and memory_lost_at is null then least(silent_after, overdue_at) end) stored,
    heard_at       timestamptz,
    on_time_until  timestamptz,
    silent_after   timestamptz,
    overdue_at     timestamptz,
    full_status    text,
    full_state     text,
    full_began     timestamptz,
    full_run       uuid,
    full_learned   timestamptz,
    memory_epoch   uuid,
    sequence       bigint,
    span           bigint,
    memory_lost_at timestamptz,
    mark           uuid,
    mark_before    uuid,
    double_since   timestamptz,
    has_epoch      bigint,
    has_counter    bigint,
    has_state      text,
    heard_span     bigint references heard (id),
    promised_at    timestamptz,
    said           bytea,
    overdue_secs   bigint
-- Written at every check-in and every run: no index but the key's, and room beside the row.
) with (fillfactor = 80);
insert into node_now (node, clock_off_ms, open_episodes, is_refused, is_unusable, heard_at, on_time_until, silent_after, overdue_at, full_status, full_state,
        full_began, full_run, full_learned, memory_epoch, sequence, span, memory_lost_at, mark, mark_before, double_since, has_epoch, has_counter, has_state,
        heard_span, promised_at, said, overdue_secs)
    select node, clock_off_ms, open_episodes, is_refused, is_unusable, heard_at, on_time_until, silent_after, overdue_at, full_status, full_state,
        full_began, full_run, full_learned, memory_epoch, sequence, span, memory_lost_at, mark, mark_before, double_since, has_epoch, has_counter, has_state,
        heard_span, promised_at, said, overdue_secs from node_was;
drop table node_was;

-- A node's name never changes: what is not in line is listed without looking for it.
alter table node_exception add column name text;
update node_exception e set name = node.name from node where node.id = e.node;
alter table node_exception alter column name set not null;
-- Lists are narrowed by labels more than by anything else: which nodes carry one is told by this index alone. It follows `node`,
-- and is not written by anything else.
create table node_label (
    label text not null,
    value text not null,
    node  uuid not null references node (id),
    primary key (label, value, node)
);
create index node_label_of_node on node_label (node);
create function node_label_follows() returns trigger language plpgsql as $$
begin
    delete from node_label where node = new.id;
    if new.retired_at is null then
        insert into node_label (label, value, node) select key, value, new.id from jsonb_each_text(new.labels);
    end if;
    return null;
end $$;
create trigger node_label_follows after insert or update of labels, retired_at on node for each row execute function node_label_follows();
insert into node_label (label, value, node)
    select key, value, node.id from node, jsonb_each_text(node.labels) where retired_at is null;
-- Names that start so.
create index node_name_start on node (name collate "C") where retired_at is null;
