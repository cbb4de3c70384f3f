(select run, began, began as last, 1::bigint as count, mode, status, report -> 'counts' as counts, state, learned_at as learned, report -> 'did_not_end' as did_not_end, partial
     from run where node = $1 and ($2::timestamptz is null or learned_at < $2) order by learned_at desc limit 200)
    union all
    (select null, first_at, last_at, count, mode, 'in_line', null, state, last_learned_at, null, false from run_span
        where node = $1 and ($2::timestamptz is null or last_learned_at < $2) order by id desc limit 200)
    order by learned desc, last desc limit 200
