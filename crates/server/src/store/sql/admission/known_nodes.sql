select node.name, k.spki_digest from node join lateral (select spki_digest from node_key where node_key.node = node.id and revoked_at is null
        order by issued_at desc limit 1) k on true
    where node.retired_at is null and node.revoked_at is null and ($1::text[] is null or node.name = any($1) or node.name like any($2))
        and ($3::bytea[] is null or k.spki_digest = any($3))
    order by node.name limit 20000
