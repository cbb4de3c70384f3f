update one_time_link set used_at = $2 where digest = $1
