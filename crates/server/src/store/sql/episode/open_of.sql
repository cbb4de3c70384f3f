select address, wanted, in_line_until, detected_at from episode where node = $1 and closed_at is null
