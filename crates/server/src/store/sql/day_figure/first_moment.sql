select min(from_at) from node_life
