select id from joining_request where decision is null and not is_judged order by requested_at limit 200
