select i.no, i.node, node.name as node_name, i.kind, i.name, i.who, i.because, i.asked_at, i.ends_at, i.was_waiting, i.told_at, i.report, n.promised_at
    from inspection i join node on node.id = i.node join node_now n on n.node = i.node where i.no = $1
