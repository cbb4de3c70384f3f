select s.id, array(select c.desired from unnest(s.clauses) as listed (id) join clause c on c.id = listed.id and c.is_counted) as desired from effective_state s where s.id = any ($1)
