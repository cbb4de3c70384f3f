insert into freeze_node (freeze_no, node) select $1, * from unnest($2::uuid[])
