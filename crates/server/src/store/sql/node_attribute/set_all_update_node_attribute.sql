update node_attribute set until_at = $4 from unnest($2::uuid[], $3::jsonb[]) as new (node, value)
    where node_attribute.node = new.node and node_attribute.name = $1 and node_attribute.until_at is null and node_attribute.superseded_at is null and node_attribute.value <> new.value
