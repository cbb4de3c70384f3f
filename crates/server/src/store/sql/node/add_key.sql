insert into node_key (spki_digest, node, certificate, ends_at, issued_at) values ($1, $2, $3, $4, $5)
