-- Open ones come first: they are ordered as if they were detected a thousand years later.
select id, address, severity, in_line_until, detected_at, detected_run, closed_at, closed_as, closed_run, drill, listed_at,
        (select r.body from related_records r where r.node = $4 and r.run = e.detected_run and r.address = e.address) as related
    from (select *, case when closed_at is null then detected_at + interval '1000 years' else detected_at end as listed_at from episode where node = $4) e
    where $1::timestamptz is null or (listed_at, id::text) < ($1, $2::text)
    order by listed_at desc, id::text desc limit $3
