insert into change (epoch, kind, what, who, because, edits, status, although_unusable, is_preview, confirmed, goes_back, drafted_at, ended_at, is_request, request_key, rollout, of_rollout)
    values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12::timestamptz, case when $7 = 'handed_out' then $12 end, $13, $14, $15, $16) returning no
