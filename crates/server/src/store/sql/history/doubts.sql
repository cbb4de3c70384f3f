insert into deviation_doubt (node, desired, from_at, until_at, learned_at)
    select $1, new.desired, new.from_at, new.until_at, $5 from unnest($2::integer[], $3::timestamptz[], $4::timestamptz[]) as new (desired, from_at, until_at)
