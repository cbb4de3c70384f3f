select nonce from self_test where no = $1 and node = $2 and reported_at is null and ends_at > $3
