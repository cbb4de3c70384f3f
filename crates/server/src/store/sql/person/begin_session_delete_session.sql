delete from session where expires_at < $1
