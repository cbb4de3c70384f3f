with used as (update token set last_at = $2 where digest = $1 and (last_at is null or last_at < $2::timestamptz - interval '15 minutes'))
    select person.name, person.roles from token join person on person.name = token.person
    where token.digest = $1 and (token.expires_at is null or token.expires_at > $2)
