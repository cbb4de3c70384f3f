select xid_epoch, xid::text as xid, id from event
    where xid_epoch < (select xid_epoch from fleet) or xid < pg_snapshot_xmin(pg_current_snapshot())
    order by xid_epoch desc, xid desc, id desc limit 1
