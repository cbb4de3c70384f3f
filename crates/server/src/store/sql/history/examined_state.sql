insert into examined_state (node, state, from_at, learned_at) values ($1, $2, $3, $4) on conflict (node, state) do nothing
