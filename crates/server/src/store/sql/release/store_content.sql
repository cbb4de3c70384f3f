insert into content (name, bytes, sealed, added_at) values ($1, $2, $3, $4) on conflict (name) do nothing
