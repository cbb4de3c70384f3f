select t.before_state, t.state, coalesce(b.clauses, '{}') as before, coalesce(a.clauses, '{}') as after, t.nodes, t.names
    from (select coalesce(before_state, 0) as before_state, coalesce(state, 0) as state, count(*) as nodes, (array_agg(node.name order by node.name))[1:3] as names
          from change_node c join node on node.id = c.node and node.retired_at is null
          where change = $1 and state is distinct from before_state and (coalesce(before_state, 0), coalesce(state, 0)) > ($2, $3)
          group by 1, 2 order by 1, 2 limit 1000) t
        left join effective_state b on b.id = t.before_state left join effective_state a on a.id = t.state
    order by t.before_state, t.state
