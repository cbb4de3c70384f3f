select no, set_by, because, from_at, until_at, jsonb_array_length(body -> 'controls')::bigint as controls from control_catalogue order by no desc limit 200
