select r.node, jsonb_path_query_array(r.report -> 'clauses', '$[*] ? (@.outcome == "out_of_line" || @.outcome == "failed" || @.outcome == "blocked")') as clauses
    from run r join unnest($1::uuid[], $2::uuid[]) as meant (node, run) on r.node = meant.node and r.run = meant.run
