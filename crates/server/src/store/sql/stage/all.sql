select name, second_person from stage order by place
