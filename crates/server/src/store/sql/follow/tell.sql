update followed set run = $3, run_told = $4::json where node = $1 and until_at > $2
