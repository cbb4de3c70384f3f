select c.no, c.clauses, c.asked_by, c.until_at, c.is_approved is null as is_asked,
        (select count(*) from concession_node n where n.concession = c.no and n.until_at is null) as nodes
    from concession c where c.ended_at is null and c.is_approved is not false and c.until_at > $1 and (c.is_approved is null or c.until_at <= $2)
    order by c.is_approved is null desc, c.until_at limit 100
