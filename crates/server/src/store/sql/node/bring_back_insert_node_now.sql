insert into node_now (node, is_refused) select id, revoked_at is not null from node where id = $1
