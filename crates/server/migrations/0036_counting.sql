-- The state that the last full run of a node examined, so that most nodes need not be looked up in examined_state.
alter table node_now add column examined_state bigint references effective_state (id);
update node_now n set examined_state = w.state from node, node_wanted w
    where node.id = n.node and w.node = n.node and exists (select from examined_state e where e.node = node.no and e.state = w.state);
-- What is in doubt now, or was not over at a moment.
create index deviation_doubt_until on deviation_doubt (until_at);
