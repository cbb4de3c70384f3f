update node set revoked_at = null where id = $1
