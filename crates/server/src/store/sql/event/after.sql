select e.id, e.at, e.kind, e.who, e.did, e.subject, node.name as node, e.detail, e.xid_epoch, e.xid::text as xid from event e left join node on node.id = e.node and node.retired_at is null
    where (e.xid_epoch, e.xid, e.id) > ($1, $2::text::xid8, $3) and ($4::uuid is null or e.node = $4) and ($5 or e.who is null)
        and (e.xid_epoch < (select xid_epoch from fleet) or e.xid < pg_snapshot_xmin(pg_current_snapshot()))
    order by e.xid_epoch, e.xid, e.id limit $6
