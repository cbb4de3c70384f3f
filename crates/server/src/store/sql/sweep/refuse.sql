update sweep_node x set refused = coalesce(x.refused, $3), told_at = case when x.refused is null then $4 else x.told_at end from sweep s
    where s.id = $1 and x.sweep = s.no and x.node = $2 and x.done_at is null
