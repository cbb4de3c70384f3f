update node_wanted set examined_state = state where node in (
    select w.node from node_wanted w join node on node.id = w.node join examined_state e on e.node = node.no and e.state = w.state
    where w.examined_state is distinct from w.state limit $1 for update of w skip locked)
