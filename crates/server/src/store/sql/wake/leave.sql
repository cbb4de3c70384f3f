update node_wake set waits_until = $3 from (
        select w.node from node_wake w join unnest($1::uuid[], $2::timestamptz[]) as gone (node, until_at) on w.node = gone.node and w.waits_until = gone.until_at
        where w.waits_until > $3 order by w.node for update of w) gone
    where node_wake.node = gone.node
