delete from followed where node in (select node from followed where until_at < $1 limit $2)
