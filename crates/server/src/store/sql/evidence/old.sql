select no from evidence where status = 'made' and ended_at < $1
