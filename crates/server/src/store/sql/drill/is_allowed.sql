-- Locked: of two drills that are asked for at once, the second finds the first.
select labels ->> $2 = $3 from node where id = $1 for no key update
