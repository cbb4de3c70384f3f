insert into followed_clause (node, run, no, told) select $1, $2, no, told::json from unnest($3::bigint[], $4::text[]) as new (no, told)
    on conflict do nothing
