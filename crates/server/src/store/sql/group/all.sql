select body from node_group where until_at is null and superseded_at is null order by name
