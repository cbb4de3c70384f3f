with revoked as (update node set revoked_at = $2 where id = $1 and revoked_at is null returning id)
    update node_now set is_refused = true from revoked where node = revoked.id
