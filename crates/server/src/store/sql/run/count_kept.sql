update node_now set kept_day = ($2::timestamptz at time zone 'UTC')::date,
        kept_bytes = case when kept_day = ($2::timestamptz at time zone 'UTC')::date then kept_bytes else 0 end + $3
    where node = $1 returning kept_bytes
