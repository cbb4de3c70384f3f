select digest, id from effective_state where digest = any($1)
