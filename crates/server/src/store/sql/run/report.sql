select r.report, r.texts, r.learned_at, s.count, s.last_at, s.last_learned_at from run r left join run_span s on s.node = r.node and s.run = r.run
    where r.node = $1 and starts_with(r.run::text, $2) order by r.learned_at desc limit 1
