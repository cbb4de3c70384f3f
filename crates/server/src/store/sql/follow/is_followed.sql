select exists (select 1 from followed where node = $1 and until_at > $2)
