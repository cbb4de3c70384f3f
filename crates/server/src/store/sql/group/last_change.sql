select c.no, c.what, c.who, c.because, c.ended_at from node_group g join change c on c.no = g.change where g.name = $1 and c.ended_at is not null
    order by g.id desc limit 1
