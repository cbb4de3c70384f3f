select e.id, e.at, e.kind, e.who, e.did, e.subject, node.name as node, e.detail, e.xid_epoch, e.xid::text as xid from event e left join node on node.id = e.node and node.retired_at is null
    where e.id < $1 and ($2 or e.who is null) order by e.id desc limit $3
