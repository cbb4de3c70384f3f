select p.groups, p.stage, p.mode, cardinality(s.clauses) as clauses, w.unusable
    from node_wanted w join placement p on p.id = w.placement left join effective_state s on s.id = w.state where w.node = $1
