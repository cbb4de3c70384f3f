select p.groups, p.stage, count(*) as nodes from node_wanted w join placement p on p.id = w.placement join node on node.id = w.node
    where node.retired_at is null and node.revoked_at is null group by p.id
