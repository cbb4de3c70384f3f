select f.no, f.who, f.because, f.set_at, f.until_at, f.ended_at, f.ended_by, f.is_for_all, f.clauses,
        array(select node.name from freeze_node n join node on node.id = n.node where n.freeze_no = f.no order by node.name) as nodes,
        m.of_nodes, m.held_by, case when m.is_one_unknown then null else m.last_by end as last_by
    from change_freeze f, lateral (
        select count(*) as of_nodes, count(*) filter (where a.is_held) as held_by, max(n.promised_at) filter (where a.is_held is not true) as last_by,
            coalesce(bool_or(n.promised_at is null) filter (where a.is_held is not true), false) as is_one_unknown
        from node join node_now n on n.node = node.id left join lateral (
            select a.value -> 'freezes' @> jsonb_build_array(jsonb_build_object('no', f.no)) as is_held from node_attribute a
            where a.node = node.id and a.name = 'freezes' and a.until_at is null and a.superseded_at is null) a on true
        where node.revoked_at is null and (f.is_for_all or exists (select 1 from freeze_node x where x.freeze_no = f.no and x.node = node.id))) m
    where case when $4::bigint is not null then f.no = $4 else ($5 or f.ended_at is null and f.until_at > $6) and ($1::timestamptz is null or (f.set_at, f.no::text) < ($1, $2::text)) end
    order by f.set_at desc, f.no::text desc limit $3
