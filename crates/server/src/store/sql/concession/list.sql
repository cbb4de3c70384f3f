select c.*, case when c.is_approved is false then 'refused' when c.ended_at is not null and c.is_approved then 'ended' when c.ended_at is not null then 'withdrawn'
            when c.until_at <= $6 then 'over' when c.is_approved then 'in_force' else 'asked' end as status,
        array(select node.name from concession_node n join node on node.no = n.node where n.concession = c.no and n.until_at is null and node.retired_at is null
            order by node.name limit 1000) as nodes,
        array(select asked.clause from unnest(c.clauses, c.patterns) as asked (clause, pattern)
            where not exists (select 1 from clause_address a where a.address like asked.pattern)) as unknown_clauses,
        (select f.no from change_freeze f where f.concession = c.no and f.ended_at is null and f.until_at > $6) as freeze,
        covered.*
    from concession c, lateral (
        select count(*) as of_nodes, coalesce(sum(k.clauses), 0)::bigint as of_clauses, coalesce(sum(k.noncompliant), 0)::bigint as noncompliant,
            count(*) filter (where k.noncompliant > 0) as nodes_noncompliant, coalesce(sum(k.to_correct) filter (where k.mode = 'enforce'), 0)::bigint as to_correct
        from (
            select p.mode, count(u.id) as clauses, count(d.id) as noncompliant,
                count(d.id) filter (where d.cause = 'drift' and coalesce(l.body #>> '{on_drift,value}', p.settings ->> 'on_drift') is distinct from 'report'
                    or d.cause = 'waiting' and coalesce(l.body #>> '{on_rollout,value}', p.settings ->> 'on_rollout') is distinct from 'wait') as to_correct
            from concession_node n join node on node.no = n.node and node.retired_at is null and node.revoked_at is null
                left join node_wanted w on w.node = node.id left join placement p on p.id = w.placement left join effective_state s on s.id = w.state
                left join (clause l join desired_clause u on u.id = l.desired join clause_address a on a.id = u.address)
                    on l.id = any (s.clauses) and l.is_counted and a.address like any (c.patterns)
                left join deviation d on d.node = n.node and d.desired = u.id and d.until_at is null and d.cause is not null
            where n.concession = c.no and n.until_at is null and c.ended_at is null and c.until_at > $6 and c.is_approved is not false
            group by n.node, p.mode) k) covered
    where case when $4::bigint is not null then c.no = $4
        else ($5 or c.ended_at is null and c.until_at > $6 and c.is_approved is not false) and ($1::timestamptz is null or (c.asked_at, c.no::text) < ($1, $2::text)) end
    order by c.asked_at desc, c.no::text desc limit $3
