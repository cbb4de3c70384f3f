update node_key set certificate = $3, ends_at = $4, issued_at = $5 where node = $1 and spki_digest = $2 and revoked_at is null
