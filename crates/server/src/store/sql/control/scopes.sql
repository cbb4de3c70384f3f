select distinct scope from control join control_catalogue on no = catalogue where until_at is null and scope is not null
union select distinct scope from scope_node where until_at is null order by 1
