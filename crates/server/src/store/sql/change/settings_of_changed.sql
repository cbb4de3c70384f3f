select p.settings, sum(c.nodes)::bigint as nodes, max(c.last_at) as last_at, sum(c.not_expected)::bigint as not_expected from (
    select t.placement, count(*) as nodes, max(n.promised_at) filter (where n.promised_at > $2) as last_at,
        count(*) filter (where n.promised_at is null or n.promised_at <= $2) as not_expected
    from change_node t join node_now n on n.node = t.node
    where t.change = $1 and t.is_new and t.state is distinct from t.before_state group by t.placement
) c join placement p on p.id = c.placement group by p.settings_digest, p.settings
