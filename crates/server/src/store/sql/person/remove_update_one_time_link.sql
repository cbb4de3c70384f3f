update one_time_link set expires_at = $2 where person = $1 and used_at is null and expires_at > $2
