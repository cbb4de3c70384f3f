update joining_request set decision = 'approved', node = $2, decided_by = $3, decided_at = $4 where id = $1
