select * from (
        select no, what, who, approved_by, ended_at from change
        where status = 'handed_out' and ended_at > $1 and ended_at <= $2 and exists (
            select 1 from change_node c where c.change = change.no and c.state is distinct from (
                select b.state from change_node b where b.node = c.node and b.change < c.change order by b.change desc limit 1))
        order by ended_at desc, no desc limit 500
    ) last order by ended_at, no
