insert into node_attribute (node, name, value, from_at, learned_at) select node, $1, value, $4, $4 from unnest($2::uuid[], $3::jsonb[]) as new (node, value)
    on conflict (node, name) where until_at is null and superseded_at is null do nothing returning node
