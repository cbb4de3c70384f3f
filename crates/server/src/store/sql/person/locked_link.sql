select person from one_time_link where digest = $1 and used_at is null and expires_at > $2 for update
