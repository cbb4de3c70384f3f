select count(*) from followed where until_at > $1
