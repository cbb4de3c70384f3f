insert into event (xid_epoch, kind, who, did, subject, detail, at)
    select xid_epoch, case when $2 = 'handed out a change' then 'handed_out' when $2 in ('approved', 'approved again', 'let in by a rule', 'brought back') then 'joined'
            when $2 = 'revoked' then 'revoked' else 'act' end, $1, $2, $3, $4, $5 from fleet
