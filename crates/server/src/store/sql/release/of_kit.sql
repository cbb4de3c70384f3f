select * from release where kit = $4 and ($1::timestamptz is null or (published_at, version) < ($1, $2::text))
    order by published_at desc, version desc limit $3
