select count(*) from inspection where who = $1 and told_at is null and ends_at > $2
