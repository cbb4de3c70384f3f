select exists (select from change_node c left join placement b on b.id = c.before_placement
    where c.change = $1 and not coalesce(b.groups ?| $2, false))
