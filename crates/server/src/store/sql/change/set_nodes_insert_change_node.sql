insert into change_node (change, node, state, placement, sources, unusable, before_state, before_placement, is_new)
    select $1, * from unnest($2::uuid[], $3::bigint[], $4::bigint[], $5::bigint[], $6::text[], $7::bigint[], $8::bigint[], $9::boolean[])
    on conflict (change, node) do update set state = excluded.state, placement = excluded.placement, sources = excluded.sources,
        unusable = excluded.unusable, before_state = excluded.before_state, before_placement = excluded.before_placement, is_new = excluded.is_new
