update sweep_node x set refused = $3, told_at = $4 from sweep s where s.id = $1 and x.sweep = s.no and x.node = $2 and x.done_at is null and x.refused is null
