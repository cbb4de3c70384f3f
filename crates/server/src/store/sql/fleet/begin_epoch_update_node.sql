update node set input_xid = pg_current_xact_id()
