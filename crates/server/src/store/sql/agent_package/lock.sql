select pg_advisory_xact_lock(hashtext('agent_package'))
