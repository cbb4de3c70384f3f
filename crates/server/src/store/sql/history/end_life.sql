update node_life l set until_at = greatest($2, l.from_at) from node where node.id = any($1) and l.node = node.no and l.until_at is null
