delete from node_attribute where ctid in (select ctid from node_attribute where until_at < $1 limit $2)
