insert into rollout_node (rollout, node, wave) select $1, new.node, new.wave from unnest($2::uuid[], $3::integer[]) as new (node, wave)
