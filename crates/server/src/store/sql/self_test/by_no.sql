select t.no, node.name as node, t.who, t.asked_at, t.ends_at, t.was_waiting, t.offered_at, t.fetched_at, t.reported_at, t.report, n.promised_at
    from self_test t join node on node.id = t.node join node_now n on n.node = t.node where t.no = $1
