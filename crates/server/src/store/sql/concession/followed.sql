select no, filter from concession
    where filter is not null and ended_at is null and until_at > $1 and is_approved is not false order by no
