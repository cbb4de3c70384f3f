select id from node where not pg_visible_in_snapshot(input_xid, $1::text::pg_snapshot)
