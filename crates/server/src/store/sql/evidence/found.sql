select node.no as node, r.run, result.value as result
    from unnest($1::integer[], $2::uuid[]) as asked (node, run) join node on node.no = asked.node join run r on r.node = node.id and r.run = asked.run
        cross join lateral jsonb_array_elements(r.report -> 'clauses') as result (value)
    where result.value ->> 'outcome' <> 'in_line'
