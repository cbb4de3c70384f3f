select coalesce(max(no), 0) + 1 from concession
