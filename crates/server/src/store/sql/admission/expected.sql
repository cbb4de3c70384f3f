select m.name from admission_machine m
    where m.rule = $1 and not exists (select 1 from joining_request r where r.rule = $1 and r.decision = 'approved' and r.name = m.name)
    order by m.name collate "C"
