delete from node_exception where node = $1 and address <> all($2)
