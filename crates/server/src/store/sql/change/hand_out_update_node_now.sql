update node_now n set is_unusable = c.unusable is not null
    from change_node c where c.change = $1 and n.node = c.node and n.is_unusable <> (c.unusable is not null)
        and (exists (select 1 from node_now where is_unusable) or exists (select 1 from change_node where change = $1 and unusable is not null))
