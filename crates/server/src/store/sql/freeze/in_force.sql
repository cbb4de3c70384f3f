select * from (
        select no, until_at, because, clauses, is_for_all,
            array(select n.node from freeze_node n where n.freeze_no = change_freeze.no and n.node = any($2) and not change_freeze.is_for_all) as nodes
        from change_freeze where ended_at is null and until_at > $1) f
    where is_for_all or cardinality(nodes) > 0 order by no
