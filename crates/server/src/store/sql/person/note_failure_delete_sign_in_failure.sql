delete from sign_in_failure where at < $1::timestamptz - interval '1 day'
