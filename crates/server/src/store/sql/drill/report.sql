update drill set told = $3::json, over_at = case when $5 then coalesce(over_at, $4) end where no = $1 and node = $2 and over_at is null
