select digest, id from state_sources where digest = any($1)
