select c.no, c.what, c.who, c.because, c.ended_at from node_wanted w join change c on c.no = w.change where w.node = $1 and c.ended_at is not null
