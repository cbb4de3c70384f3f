select * from release where $1::timestamptz is null or (published_at, kit || '@' || version) < ($1, $2::text)
    order by published_at desc, kit || '@' || version desc limit $3
