update job set ended_at = $3, leased_until = null where id = $1 and fence = $2 and ended_at is null
