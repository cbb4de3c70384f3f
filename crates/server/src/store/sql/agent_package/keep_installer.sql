insert into installer (sha256, contents, packages, made_at) values ($1, $2, $3, $4) on conflict (sha256) do nothing
