insert into agent_package (sha256, version, format, architecture, glibc, contents, added_by, added_at) values ($1, $2, $3, $4, $5, $6, $7, $8)
