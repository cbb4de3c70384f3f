select (least((select min(learned_at) from examined_state), (select min(learned_at) from deviation), (select min(learned_at) from examined_clause)) at time zone 'UTC')::date
