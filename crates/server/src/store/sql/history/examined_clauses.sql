insert into examined_clause (node, desired, from_at, learned_at) select $1, new.desired, $3, $4 from unnest($2::integer[]) as new (desired)
    on conflict (node, desired) do nothing
