select e.id, e.at, e.who, e.did, e.subject, e.detail, null::text as digest from event e
    where e.who is not null and not exists (select 1 from audit_chain c where c.entry = e.id)
        and (e.xid_epoch < (select xid_epoch from fleet) or e.xid < pg_snapshot_xmin(pg_current_snapshot()))
    order by e.xid_epoch, e.xid, e.id limit 1000
