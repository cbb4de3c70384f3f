select asked.address, c.no, c.until_at, c.because
    from concession c join concession_node n on n.concession = c.no and n.until_at is null join node on node.no = n.node
        join unnest($3::text[]) as asked (address) on asked.address like any (c.patterns)
    where node.id = $1 and c.is_approved and c.ended_at is null and c.until_at > $2 order by c.no
