with new as (insert into node (id, name, joined_at) values ($1, $2, $3) returning id) insert into node_now (node) select id from new
