update job set owner = $2, fence = fence + 1, tries = tries + 1, leased_until = $3::timestamptz + make_interval(secs => $4)
    where id = (select min(id) from job where kind = $1 and ended_at is null) and ended_at is null and (leased_until is null or leased_until < $3)
    returning id, coalesce(change, evidence) as subject, fence, reached, done, tries
