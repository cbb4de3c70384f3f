select node.name, x.was_waiting, x.answered_at, w.at as woken_at, n.heard_at, n.promised_at,
        coalesce(n.has_epoch = t.epoch and n.has_counter = t.counter, false) as is_up_to_date
    from wake_node x join wake w on w.no = x.wake join node on node.id = x.node join node_now n on n.node = x.node left join node_wanted t on t.node = x.node
    where x.wake = $4 and ($1::timestamptz is null or node.name > $2) order by node.name limit $3
