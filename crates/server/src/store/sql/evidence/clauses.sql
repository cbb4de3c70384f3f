select c.id, a.address, c.severity, c.satisfies, c.baselines, c.releases, w.wanted, c.desired, c.body
    from (select distinct listed.id from effective_state s cross join unnest(s.clauses) as listed (id) where s.id = any ($1)) used
        join clause c on c.id = used.id and c.is_counted join desired_clause w on w.id = c.desired join clause_address a on a.id = w.address
