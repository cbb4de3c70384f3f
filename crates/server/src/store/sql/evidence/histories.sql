select array_agg(no) as nodes, changes, states from (
        select node.no, array_agg(c.change order by h.ended_at, h.no) as changes, array_agg(c.state order by h.ended_at, h.no) as states
        from change h join change_node c on c.change = h.no join node on node.id = c.node
        where h.status = 'handed_out' and h.ended_at <= $1 and node.no = any ($2) group by node.no) each
    group by changes, states
