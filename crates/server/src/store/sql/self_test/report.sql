update self_test set reported_at = $3, report = $4 where no = $1 and node = $2 and reported_at is null and ends_at > $3
