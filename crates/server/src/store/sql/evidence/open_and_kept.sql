select count(*) filter (where status = 'waiting') as waiting, coalesce(sum(bytes) filter (where status = 'made'), 0)::bigint as bytes from evidence
