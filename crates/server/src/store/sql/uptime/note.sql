insert into server_alive (last_at) values ($1)
    on conflict (single) do update set last_at = excluded.last_at, beats = server_alive.beats + 1
