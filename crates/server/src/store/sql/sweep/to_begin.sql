update sweep set woken_at = $1 where no = (
        select no from sweep where woken_at is null and stopped_at is null and begins_at <= $1 and ends_at > $1 order by no limit 1 for update skip locked)
    returning no, who, because
