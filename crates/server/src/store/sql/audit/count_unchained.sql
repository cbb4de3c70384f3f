select (select count(*) from event where who is not null) - (select count(*) from audit_chain)
