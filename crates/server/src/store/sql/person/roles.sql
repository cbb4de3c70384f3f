select roles from person where name = $1 and removed_at is null
