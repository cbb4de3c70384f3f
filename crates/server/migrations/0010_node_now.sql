-- How each node is now: one row a node, which a check-in without news and a run without news change in one statement each,
-- and by which the fleet is counted in one look. Until when a node is on time, from when it is silent and from when its runs
-- are overdue is reckoned when it promises and when it ran, so that lists only compare.
alter table node_now
    alter column memory_epoch drop not null,
    alter column sequence drop not null,
    -- The mark that was given last, and the one that was shown for it.
    add column mark          uuid,
    add column mark_before   uuid,
    add column double_since  timestamptz,
    -- What it said that it has.
    add column has_epoch     bigint,
    add column has_counter   bigint,
    add column has_state     text,
    -- The span of check-ins that it lengthened.
    add column heard_span    bigint references heard (id),
    add column heard_at      timestamptz,
    add column promised_at   timestamptz,
    add column on_time_until timestamptz,
    add column silent_after  timestamptz,
    add column clock_off_ms  bigint not null default 0,
    -- The digest of what it said of itself, so that what it says again need not be compared.
    add column said          bytea,
    -- After so many seconds without a full run its runs are overdue.
    add column overdue_secs  bigint,
    add column overdue_at    timestamptz,
    -- Whether it is revoked, and whether its state cannot be resolved.
    add column is_refused    boolean not null default false,
    add column is_unusable   boolean not null default false;
-- A retired node is no more: it has no row here.
insert into node_now (node) select id from node where retired_at is null on conflict do nothing;
delete from node_now n using node where node.id = n.node and node.retired_at is not null;
update node_now n set is_refused = node.revoked_at is not null, is_unusable = w.unusable is not null
    from node left join node_wanted w on w.node = node.id where node.id = n.node;
update node_now n set
    mark = m.current, mark_before = m.before, double_since = m.double_since, has_epoch = m.has_epoch, has_counter = m.has_counter, has_state = m.has_state
from node_mark m where m.node = n.node;
update node_now n set
    heard_span = h.id, heard_at = h.last_at, promised_at = h.promised_at, clock_off_ms = h.clock_off_ms,
    on_time_until = h.promised_at + greatest((h.promised_at - h.last_at) / 10, interval '60 seconds'),
    silent_after = greatest(h.last_at + 3 * (h.promised_at - h.last_at), h.promised_at + greatest((h.promised_at - h.last_at) / 10, interval '60 seconds'))
from heard h where h.id = (select max(id) from heard where heard.node = n.node);
drop table node_mark;
-- Written at every check-in and every run: no index but the key's, and room beside the row.
alter table node_now set (fillfactor = 80);

-- What is so of each node now stands with the node, beside its history in `fact`: lists are narrowed by it.
alter table node
    add column labels          jsonb not null default '{}',
    add column about           jsonb not null default '{}',
    add column stage           text not null default '',
    add column groups          jsonb not null default '[]',
    add column mode            text not null default '',
    add column restart_pending jsonb;
alter table node_wanted add column overdue_secs bigint;
create function fact_now(of_node uuid, of_what text) returns jsonb language sql as
    'select value from fact where node = of_node and what = of_what and until_at is null and superseded_at is null';
update node set
    labels = coalesce(fact_now(id, 'labels'), '{}'), about = coalesce(fact_now(id, 'about'), '{}'), stage = coalesce(fact_now(id, 'stage') #>> '{}', ''),
    groups = coalesce(fact_now(id, 'groups'), '[]'), restart_pending = fact_now(id, 'restart_pending'),
    mode = coalesce((select settings ->> 'mode' from node_wanted w where w.node = node.id), '');
drop function fact_now;
-- Until it is reckoned anew, which every change of what is wanted does.
update node_wanted set overdue_secs = 60 + 3 * case when jsonb_array_length(coalesce(settings -> 'run_at', '[]')) > 0 then 97200
        else coalesce((settings ->> 'run_interval_secs')::bigint, (settings ->> 'interval_secs')::bigint, 900) end
    where state is not null;
update node_now n set overdue_secs = w.overdue_secs, overdue_at = coalesce(full_learned, now()) + make_interval(secs => w.overdue_secs)
    from node_wanted w where w.node = n.node;
create index node_not_whole on node (id)
    where not about ?& array['os.family', 'os.name', 'os.version', 'arch', 'cpu.count', 'memory.mib', 'init', 'packages', 'virtual'];
create index node_revoked on node (id) where retired_at is null and revoked_at is not null;
create index node_key_ends on node_key (ends_at) where revoked_at is null;
create index run_learned on run (learned_at desc);
create index episode_corrected on episode (closed_at) where closed_as = 'corrected';
