select name from stage order by place
