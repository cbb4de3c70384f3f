insert into audit_trail (who, did, subject, detail, at) values ($1, $2, $3, $4, $5)
