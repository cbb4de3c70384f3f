select node.no, node.id from node
    where (node.retired_at is not null or node.revoked_at is not null)
        and not exists (select from node_life l where l.node = node.no and (l.until_at is null or l.until_at >= $1))
        and (exists (select from change_node c where c.node = node.id) or exists (select from examined_state e where e.node = node.no))
    order by node.no limit $2
    for no key update of node skip locked
