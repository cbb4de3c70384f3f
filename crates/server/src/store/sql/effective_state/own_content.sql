select c.bytes from content c where c.name = $2
    and exists (select 1 from node_wanted w join effective_state s on s.id = w.state join clause_content k on k.clause = any(s.clauses)
        where w.node = $1 and k.name = $2)
    and not (c.sealed and exists (select 1 from node_now n where n.node = $1 and n.duplicate_identity_since is not null))
