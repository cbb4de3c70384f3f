select id, title from control join control_catalogue on no = catalogue where from_at <= $1 and (until_at is null or $1 < until_at)
