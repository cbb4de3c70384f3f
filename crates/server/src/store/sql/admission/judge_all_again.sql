update joining_request set is_judged = false where decision is null and is_judged
