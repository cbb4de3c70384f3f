with person as (update person set roles = '{}', password = null, removed_at = $2 where name = $1),
        ended_session as (delete from session where person = $1 returning 1),
        ended_token as (delete from token where person = $1 returning 1),
        ended_invitation as (update invitation set withdrawn_at = $2, withdrawn_by = $3
            where made_by = $1 and withdrawn_at is null and uses_left > 0 and expires_at > $2 returning 1)
    select (select count(*) from ended_session) as sessions, (select count(*) from ended_token) as tokens,
        (select count(*) from ended_invitation) as invitations
