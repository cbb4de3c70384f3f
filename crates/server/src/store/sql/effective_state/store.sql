insert into effective_state (digest, clauses, releases, made_at) values ($1, $2, $3, $4) on conflict (digest) do nothing
