with revoked as (
        update node set revoked_at = refused.at from unnest($1::uuid[], $2::timestamptz[]) as refused (node, at)
        where id = refused.node and revoked_at is null returning id, name
    ), shown as (update node_now set is_refused = true from revoked where node = revoked.id)
    select name from revoked order by name
