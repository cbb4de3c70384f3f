select pg_advisory_xact_lock(hashtext('asking for evidence'))
