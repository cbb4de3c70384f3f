set local lock_timeout = '5s'
