select no, body, set_by, because, from_at from control_catalogue where from_at <= $1 and (until_at is null or $1 < until_at)
