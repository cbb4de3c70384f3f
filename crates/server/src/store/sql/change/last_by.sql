select case when count(*) = count(n.promised_at) then max(n.promised_at) end
    from change_node c left join node_now n on n.node = c.node left join node_wanted w on w.node = c.node
    where c.change = $1 and c.is_new and c.taken_at is null and not coalesce(w.change > c.change, false)
