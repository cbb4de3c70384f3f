with used as (update session set last_at = $3 where digest = $1 and last_at < $3::timestamptz - interval '5 minutes'
        and last_at > $3::timestamptz - make_interval(secs => $2))
    select person.name, person.roles from session join person on person.name = session.person
    where digest = $1 and expires_at > $3 and last_at > $3::timestamptz - make_interval(secs => $2)
