update node_key set revoked_at = $2 where node = $1 and spki_digest <> $3 and revoked_at is null returning spki_digest
