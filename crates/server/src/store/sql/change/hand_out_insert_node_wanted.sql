insert into node_wanted (node, state, placement, sources, unusable, change, epoch, counter, state_since, settings_since)
    select c.node, c.state, c.placement, c.sources, c.unusable, c.change, $2, nextval('generation_counter'), case when c.state is not null then $3::timestamptz end, $3
    from change_node c join node on node.id = c.node
    where c.change = $1 and (select count(*) from change_node where change = $1) > $4
        and node.retired_at is null and not exists (select 1 from node_wanted w where w.node = c.node)
