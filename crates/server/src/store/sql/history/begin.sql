insert into deviation (node, desired, cause, from_at, learned_at, run)
    select $1, new.desired, new.cause, $4, $5, $6 from unnest($2::integer[], $3::text[]) as new (desired, cause)
