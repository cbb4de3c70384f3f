select no, what, who, approved_by, ended_at from change where no = any($1) and ended_at is not null order by ended_at, no
