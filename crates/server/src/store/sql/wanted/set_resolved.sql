update node set input_pending = false, input_xid = case when $2 then pg_current_xact_id() else input_xid end
    where id = $1 and (input_pending or $2)
