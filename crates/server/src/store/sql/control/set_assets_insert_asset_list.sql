insert into asset_list (set_by, set_at) values ($1, $2) on conflict (is_only) do update set set_by = excluded.set_by, set_at = excluded.set_at
