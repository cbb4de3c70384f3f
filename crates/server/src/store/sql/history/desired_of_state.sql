select c.desired from effective_state s, unnest(s.clauses) as listed (id) join clause c on c.id = listed.id where s.id = $1
