insert into job (kind, change, evidence, what, who, queued_at, reached)
    values ($1, case when $1 <> 'evidence' then $2::bigint end, case when $1 = 'evidence' then $2 end, $3, $4, $5, $6)
