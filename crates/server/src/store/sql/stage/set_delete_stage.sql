delete from stage
