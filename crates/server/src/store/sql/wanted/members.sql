select of_placement.name, sum(of_placement.nodes)::bigint from (
    select jsonb_array_elements_text(p.groups) as name, count(*) as nodes from node_wanted w
        join placement p on p.id = w.placement join node on node.id = w.node
        where node.retired_at is null and node.revoked_at is null group by p.id) of_placement
    where of_placement.name = any($1) group by of_placement.name
