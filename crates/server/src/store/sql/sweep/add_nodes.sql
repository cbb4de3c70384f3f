insert into sweep_node (sweep, node, was_in_line, observed, would, refused)
    select $1, t.node, coalesce(n.full_status in ('in_line', 'drift_corrected', 'rolled_out'), false), t.observed, t.would, t.refused
    from unnest($2::uuid[], $3::jsonb[], $4::integer[], $5::jsonb[]) as t (node, observed, would, refused) left join node_now n on n.node = t.node
