select pg_advisory_xact_lock(hashtext('partitions of run')), set_config('lock_timeout', '2s', true)
