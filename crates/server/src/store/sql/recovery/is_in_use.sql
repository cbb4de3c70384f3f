select exists (select 1 from node) or exists (select 1 from joining_request) or exists (select 1 from release)
