select node.id, node.name, node.revoked_at is not null as is_revoked, n.duplicate_identity_since is not null as has_duplicate_identity,
        w.state is not null as has_state, coalesce(p.settings, '{}') as settings, coalesce(n.silent_after < $2, true) as is_silent,
        coalesce(k.waits_until > $2, false) as can_be_woken, n.full_status, n.full_run, n.full_learned
    from node join node_now n on n.node = node.id left join node_wanted w on w.node = node.id left join placement p on p.id = w.placement
        left join node_wake k on k.node = node.id
    where node.id = any($1) and node.retired_at is null order by node.name
