select c.place, c.digest as link, c.entry, e.at, e.who, e.did, e.subject, e.detail from audit_chain c left join event e on e.id = c.entry
    where c.place > $1 order by c.place limit 1000
