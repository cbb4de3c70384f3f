with ending as (
    update node_key k set ending_noted = true
        where k.revoked_at is null and not k.ending_noted and k.ends_at < $1::timestamptz + make_interval(hours => $2)
        returning k.node, k.ends_at)
insert into event (xid_epoch, kind, node, subject, detail, at)
    select fleet.xid_epoch, 'certificate_ends', node.id, node.name, jsonb_build_object('kind', 'certificate_ends', 'ends_at', ending.ends_at), $1
        from ending join node on node.id = ending.node and node.retired_at is null and node.revoked_at is null, fleet
        where not exists (select 1 from node_key later where later.node = ending.node and later.revoked_at is null and later.ends_at > ending.ends_at)
