select count(*) from sweep where asked_at > $1
