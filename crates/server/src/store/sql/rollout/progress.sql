select c.no, c.what, c.who, r.began_at, r.reached, r.waves, m.nodes, m.nodes_reached
    from rollout r join change c on c.no = r.change cross join lateral (
        select count(*) as nodes, count(*) filter (where n.wave <= r.reached) as nodes_reached from rollout_node n where n.rollout = r.change) m
    where r.status = 'going' order by c.no limit 20
