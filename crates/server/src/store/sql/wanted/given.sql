select given.baseline, a.value ->> 0 as by_group, a.value ->> 1 as assigned, sum(placed.nodes)::bigint as nodes
    from (select w.placement, count(*) as nodes from node_wanted w join node on node.id = w.node
            where node.retired_at is null and node.revoked_at is null group by w.placement) placed
        join placement p on p.id = placed.placement, jsonb_array_elements(p.assignments) a, jsonb_array_elements_text(a.value -> 2) given (baseline)
    group by 1, 2, 3 order by 1, 2, 3
