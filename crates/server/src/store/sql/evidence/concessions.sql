select c.no, c.clauses, c.filter, c.because, c.asked_by, c.asked_at, c.decided_by, c.decided_at, c.until_at,
        (select count(*) from concession_node n where n.concession = c.no and n.from_at <= $1 and (n.until_at is null or $1 < n.until_at)) as nodes
    from concession c where c.is_approved and c.decided_at <= $1 and $1 < coalesce(c.ended_at, c.until_at) order by c.no
