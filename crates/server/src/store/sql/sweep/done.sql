update sweep_node x set done_at = $3, begun_at = coalesce(x.begun_at, $4), run = $5, came_of = $6, found = $7, would = coalesce($8, x.would), told_at = $3,
        status = $9, is_in_line = $10, corrected = $11, with_left = $12, changed_since = $13
    from sweep s where s.id = $1 and x.sweep = s.no and x.node = $2 and x.done_at is null
