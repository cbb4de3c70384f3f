update self_test set fetched_at = coalesce(fetched_at, $3) where no = $1 and node = $2
