select e.id, e.at, e.who, e.did, e.subject, e.detail, c.digest from event e left join audit_chain c on c.entry = e.id
    where e.who is not null and e.id < $1 and ($2::text is null or e.who = $2) and ($3::text is null or e.subject = $3) order by e.id desc limit $4
