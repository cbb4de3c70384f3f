update joining_request set decision = 'denied', because = $2, decided_by = $3, decided_at = $4, waits_for_rule = null, waits_because = null where id = $1
