update node_wanted w set state = c.state, placement = c.placement, sources = c.sources, unusable = c.unusable, change = c.change,
        epoch = case when c.is_new then $2 else w.epoch end,
        counter = case when c.is_new then nextval('generation_counter') else w.counter end,
        state_since = case when c.state is distinct from w.state then $3 else w.state_since end,
        settings_since = case when c.is_new and c.placement is distinct from w.placement then $3 else w.settings_since end
    from change_node c join node on node.id = c.node where c.change = $1 and w.node = c.node and node.retired_at is null
