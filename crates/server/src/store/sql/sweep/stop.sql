update sweep set stopped_at = $2, stopped_by = $3 where no = $1 and stopped_at is null and exists (
    select 1 from sweep_node x where x.sweep = sweep.no and x.done_at is null and x.refused is null and (sweep.ends_at > $2 or x.begun_at is not null))
