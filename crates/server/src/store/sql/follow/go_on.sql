update followed set until_at = $3 where node = $1 and until_at > $2
