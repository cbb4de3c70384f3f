select address, since from node_exception where node = $1
