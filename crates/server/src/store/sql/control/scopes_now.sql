select distinct scope from control join control_catalogue on no = catalogue where until_at is null and scope is not null order by 1
