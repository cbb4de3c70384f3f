select node.no as node, asked.run, result.value as result
    from unnest($1::integer[], $2::uuid[]) as asked (node, run) join node on node.no = asked.node left join run r on r.node = node.id and r.run = asked.run
        left join lateral (select later.report from run later where r.run is null and later.node = node.id and later.began <= $3 and not later.partial
            order by later.began desc limit 1) later on true
        cross join lateral jsonb_array_elements(coalesce(r.report, later.report) -> 'clauses') as result (value)
    where result.value ->> 'outcome' <> 'in_line'
