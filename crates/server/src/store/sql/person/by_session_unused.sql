select person.name, person.roles from session join person on person.name = session.person
    where digest = $1 and expires_at > $3 and last_at > $3::timestamptz - make_interval(secs => $2)
