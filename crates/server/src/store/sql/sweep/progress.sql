update sweep_node x set begun_at = coalesce(x.begun_at, case when $4 then $5::timestamptz end), progress = $3, told_at = $5 from sweep s
    where s.id = $1 and x.sweep = s.no and x.node = $2 and x.done_at is null
    returning s.stopped_at is not null as is_stopped, (s.body ->> 'mode') = 'enforce' as enforces
