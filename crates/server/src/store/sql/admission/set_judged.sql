update joining_request set is_judged = true, waits_for_rule = $2, waits_because = $3 where id = $1
