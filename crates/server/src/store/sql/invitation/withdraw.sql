update invitation set withdrawn_at = $3, withdrawn_by = $2 where id = $1 and withdrawn_at is null and uses_left > 0 and expires_at > $3
