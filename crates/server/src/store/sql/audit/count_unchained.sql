select (select count(*) from audit_trail) - (select count(*) from audit_chain)
