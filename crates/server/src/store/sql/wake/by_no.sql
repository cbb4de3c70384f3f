select w.no, w.at, w.who, w.because, m.* from wake w, lateral (
        select count(*) as nodes, count(x.answered_at) as answered, count(*) filter (where x.was_waiting) as waiting,
            count(*) filter (where n.has_epoch = t.epoch and n.has_counter = t.counter) as up_to_date,
            percentile_disc(0.5) within group (order by (extract(epoch from x.answered_at - w.at) * 1000)::bigint) as median_ms,
            (extract(epoch from max(x.answered_at) - w.at) * 1000)::bigint as slowest_ms,
            max(n.promised_at) filter (where x.answered_at is null) as last_by
        from wake_node x join node_now n on n.node = x.node left join node_wanted t on t.node = x.node where x.wake = w.no) m
    where w.no = $1
