update node_now set mark = null, mark_before = null where mark is not null
