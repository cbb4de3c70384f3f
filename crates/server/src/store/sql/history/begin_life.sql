insert into node_life (node, from_at) select no, $2 from node where id = any($1) on conflict (node) where until_at is null do nothing
