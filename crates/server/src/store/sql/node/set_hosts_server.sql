update node set hosts_server = $2 where id = $1 and hosts_server <> $2
