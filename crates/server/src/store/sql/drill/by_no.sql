select d.no, node.name as node_name, d.clauses, d.for_secs, d.at_once, d.who, d.because, d.asked_at, d.offered_until, d.was_waiting, d.told, d.over_at,
        n.promised_at
    from drill d join node on node.id = d.node join node_now n on n.node = d.node where d.no = $1
