select e.id, e.at, e.kind, e.who, e.did, e.subject, node.name as node, e.detail, e.xid_epoch, e.xid::text as xid from event e join node on node.id = e.node
    where e.node = $2 and e.id < $1 order by e.id desc limit $3
