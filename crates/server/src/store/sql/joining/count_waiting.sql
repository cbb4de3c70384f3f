select count(*) from joining_request where decision is null
