-- A text that a report has again is noted once a day.
delete from report_text where digest in (select digest from report_text where added_at < date_trunc('month', $1, 'UTC') - interval '1 day' limit $2)
