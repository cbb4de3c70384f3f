select distinct value #>> '{}' from node_attribute where name = 'agent' and until_at is null and superseded_at is null and value <> 'null'
    union select own -> 'settings' ->> 'agent_version' from node where own -> 'settings' ? 'agent_version'
