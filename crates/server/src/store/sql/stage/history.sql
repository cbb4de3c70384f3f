select stage, version, from_at, until_at, served_by from served
    where kit = $1 and version = any($2) and superseded_at is null order by from_at desc, id desc limit 10000
