update joining_request set decision = 'approved', node = $2, decided_by = $3, decided_at = $4, rule = $5, waits_for_rule = null, waits_because = null where id = $1
