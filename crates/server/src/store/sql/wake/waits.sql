select exists (select 1 from node_wake where node = $1 and waits_until > $2)
