delete from installer where not packages <@ (select coalesce(array_agg(sha256), '{}') from agent_package)
