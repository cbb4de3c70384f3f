select pg_try_advisory_xact_lock_shared($1)
