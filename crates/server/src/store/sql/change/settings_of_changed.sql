select p.settings, sum(c.nodes)::bigint as nodes from (
    select placement, count(*) as nodes from change_node where change = $1 and is_new and state is distinct from before_state group by placement
) c join placement p on p.id = c.placement group by p.settings_digest, p.settings
