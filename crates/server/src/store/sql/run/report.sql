select report, texts from run where node = $1 and starts_with(run::text, $2) order by learned_at desc limit 1
