select e.no, e.question, e.formats, e.because, e.asked_by, e.asked_at, e.status, e.ended, e.ended_at, e.rows, e.bytes, e.sha256, e.key, e.figures,
        coalesce(j.done, 0) as done, coalesce(j.total, 0) as total, j.leased_until is not null as is_begun
    from evidence e left join job j on j.evidence = e.no and j.ended_at is null
    where case when $4::bigint is not null then e.no = $4 else ($1::timestamptz is null or (e.asked_at, e.no::text) < ($1, $2::text)) end
    order by e.asked_at desc, e.no::text desc limit $3
