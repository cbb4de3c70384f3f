select node.name, n.has_state as has, s.digest as wanted, coalesce(n.heard_at >= r.since, false) as heard
    from recovery r cross join node join node_now n on n.node = node.id left join node_wanted w on w.node = node.id left join effective_state s on s.id = w.state
    where r.ended_at is null and node.revoked_at is null and node.retired_at is null order by node.name limit 100000
