select id, name, labels, own from node where own ? 'properties' and retired_at is null order by id
