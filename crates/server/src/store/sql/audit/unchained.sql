select e.id, e.at, e.who, e.did, e.subject, e.detail, null::text as digest from audit_trail e
    where not exists (select 1 from audit_chain c where c.entry = e.id) and e.xid < pg_snapshot_xmin(pg_current_snapshot())
    order by e.xid, e.id limit 1000
