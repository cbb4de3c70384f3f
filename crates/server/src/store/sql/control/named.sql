select distinct unnest(satisfies) from clause
