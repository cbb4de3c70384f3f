select exists (select 1 from token where person = $1 and name = $2 and made_for = 'program' and (expires_at is null or expires_at > $3))
