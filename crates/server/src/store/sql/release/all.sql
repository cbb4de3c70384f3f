select * from release order by published_at desc limit 1000
