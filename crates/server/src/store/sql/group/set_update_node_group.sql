update node_group set until_at = $2 where name = $1 and until_at is null and superseded_at is null
