select count(distinct w.no), count(x.node) from wake w left join wake_node x on x.wake = w.no where w.at > $1
