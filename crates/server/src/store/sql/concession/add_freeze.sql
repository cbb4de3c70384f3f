with made as (
    insert into change_freeze (who, because, is_for_all, clauses, set_at, until_at, concession)
        select $2, $3, false, clauses, $4, until_at, no from concession where no = $1 returning no, concession)
insert into freeze_node (freeze_no, node)
    select made.no, node.id from made join concession_node c on c.concession = made.concession and c.until_at is null join node on node.no = c.node
