select c.no, c.edits from rollout r join change c on c.no = r.change where r.ended_at is null and r.reached < r.waves order by c.no
