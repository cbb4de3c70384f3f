select pg_try_advisory_xact_lock(hashtext('retention'))
