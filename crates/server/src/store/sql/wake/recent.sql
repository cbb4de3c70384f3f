select count(*) from wake where at > $1
