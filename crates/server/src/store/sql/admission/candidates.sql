select r.no, r.body, r.has_table, m.body as machine, r.placement, r.at_most, r.made_by,
        (select count(*) from joining_request j where j.rule = r.no and j.decision = 'approved') as let_in
    from admission_rule r left join admission_machine m on m.rule = r.no and m.name = $1
    where r.ended_at is null and r.until_at > $2 order by r.no for no key update of r
