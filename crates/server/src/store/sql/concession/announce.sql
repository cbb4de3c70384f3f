with soon as (
    update concession set announced_at = $1 where announced_at is null and is_approved and ended_at is null and until_at > $1 and until_at <= $2
        returning no, clauses, until_at, asked_by, decided_by)
select no, clauses, until_at, asked_by, decided_by from soon order by no
