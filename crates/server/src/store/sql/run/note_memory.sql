update node_now set memory_lost_at = case when $2 then $4::timestamptz end where node = $1 and ($2 or ($3 and memory_lost_at is not null))
