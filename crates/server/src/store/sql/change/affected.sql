select count(*) as nodes, count(*) filter (where p.settings_digest is distinct from b.settings_digest) as settings,
        count(*) filter (where node.joined_at > (select drafted_at from change where no = $1)) as joined
    from change_node c join node on node.id = c.node and node.retired_at is null
        join placement p on p.id = c.placement left join placement b on b.id = c.before_placement
    where c.change = $1 and c.is_new
