update inspection set told_at = $3, report = $4::json where no = $1 and node = $2 and told_at is null and ends_at > $3
