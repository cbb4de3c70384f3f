select s.version from served s join release r on r.kit = s.kit and r.version = s.version
    where s.stage = $1 and s.kit = $2 and s.version <> $3 and s.until_at is not null and s.superseded_at is null
        and r.withdrawn_at is null
    order by s.until_at desc limit 1
