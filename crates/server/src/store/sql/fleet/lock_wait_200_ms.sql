set local lock_timeout = '200ms'
