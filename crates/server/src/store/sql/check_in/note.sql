update node_now set mark_before = $7, mark = $2, has_epoch = $4, has_counter = $5, has_state = $6, heard_span = $8, heard_at = $9, promised_at = $10,
        on_time_until = $11, silent_after = $12, clock_off_ms = $13, attributes_digest = $14, duplicate_identity_since = case when $3 then coalesce(duplicate_identity_since, $9) end
    where node = $1
