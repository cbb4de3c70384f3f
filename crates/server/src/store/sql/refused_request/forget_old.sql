delete from refused_request where last_at < greatest($1::timestamptz - make_interval(days => $2),
    (select last_at from refused_request order by last_at desc offset $3 limit 1))
