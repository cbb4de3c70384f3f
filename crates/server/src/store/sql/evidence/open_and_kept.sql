select count(*) filter (where status = 'waiting') as waiting, count(*) filter (where status = 'waiting' and asked_by = $1) as of_person,
        coalesce(sum(bytes) filter (where status = 'made'), 0)::bigint as bytes from evidence
