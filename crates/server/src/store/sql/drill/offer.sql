select no, clauses, for_secs, at_once, who, because from drill where node = $1 and told is null and offered_until > $2 order by no limit 1
