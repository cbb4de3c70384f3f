insert into node_wake (node, wake) select node, wake from wake_node where wake = $1 order by node
    on conflict (node) do update set wake = excluded.wake where node_wake.wake < excluded.wake
