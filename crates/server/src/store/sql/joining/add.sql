insert into joining_request (id, invitation, spki_digest, name, request, address, about, known_node, requested_at) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
