select c.no, c.what, c.who, c.because, c.ended_at from node_group g join change c on c.no = g.change
    where g.name = $1 and g.body #>> array['settings_until', $2, 'until'] = $3 and c.ended_at is not null
    order by g.id limit 1
