select no, kind, name from inspection where node = $1 and told_at is null and ends_at > $2 order by no limit 20
