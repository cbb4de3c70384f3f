select * from release where kit = $1 order by published_at desc limit 1000
