update self_test set offered_at = coalesce(offered_at, $2)
    where no = (select no from self_test where node = $1 and reported_at is null and ends_at > $2 order by no desc limit 1)
    returning no, state
