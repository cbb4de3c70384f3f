with ended as (update admission_rule set ended_at = $3, ended_by = $2 where no = $1 and ended_at is null and until_at > $3 returning no),
    forgotten as (update joining_request set waits_for_rule = null, waits_because = null from ended where waits_for_rule = ended.no)
    select count(*) from ended
