select l.*, (select coalesce(sum(m.runs), 0)::bigint from missing_runs m join node on node.no = m.node
        where node.id = $1 and m.learned_at between l.learned_first and l.learned) as missing from (
    (select run, began, began as last, 1::bigint as count, mode, status, report -> 'counts' as counts, state, learned_at as learned_first, learned_at as learned,
            report -> 'did_not_end' as did_not_end, partial
        from run where node = $1 and ($2::timestamptz is null or (learned_at, began) < ($2, $3)) and not exists (select 1 from run_span s where s.node = run.node and s.run = run.run)
        order by learned_at desc, began desc limit $4)
    union all
    (select s.run, first_at, last_at, count, s.mode, s.status, r.report -> 'counts', s.state, first_learned_at, last_learned_at, null, false
        from run_span s left join run r on r.node = s.node and r.run = s.run and r.learned_at = s.first_learned_at
        where s.node = $1 and ($2::timestamptz is null or (last_learned_at, last_at) < ($2, $3)) order by s.id desc limit $4)) l
    order by learned desc, last desc limit $4
