select stage, version, from_at, until_at, served_by from served where kit = $1 and superseded_at is null
    order by from_at desc limit 1000
