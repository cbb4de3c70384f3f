delete from followed where node = $1
