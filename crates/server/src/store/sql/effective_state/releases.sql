select digest, releases from effective_state where digest = any($1)
