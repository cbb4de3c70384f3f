insert into release (kit, version, digest, summary, requires, files, published_by, published_at) values ($1, $2, $3, $4, $5, $6, $7, $8)
