select 'opened' as what, n.id::text as node, a.address, w.wanted as of, d.cause, d.from_at, null::timestamptz as until_at, d.learned_at, d.run::text as run
    from deviation d join node n on n.no = d.node join desired_clause w on w.id = d.desired join clause_address a on a.id = w.address
    where d.learned_at >= $1 and d.learned_at < $2
union all
select 'closed', n.id::text, a.address, w.wanted, null, d.from_at, d.until_at, d.until_learned_at, null
    from deviation d join node n on n.no = d.node join desired_clause w on w.id = d.desired join clause_address a on a.id = w.address
    where d.until_learned_at >= $1 and d.until_learned_at < $2
union all
select 'examined', n.id::text, '', s.digest, null, e.from_at, null, e.learned_at, null
    from examined_state e join node n on n.no = e.node join effective_state s on s.id = e.state where e.learned_at >= $1 and e.learned_at < $2
union all
select 'examined', n.id::text, '', w.wanted, null, e.from_at, null, e.learned_at, null
    from examined_clause e join node n on n.no = e.node join desired_clause w on w.id = e.desired where e.learned_at >= $1 and e.learned_at < $2
union all
select 'gap', n.id::text, '', '', null, g.from_at, g.until_at, g.until_learned_at, null
    from examination_gap g join node n on n.no = g.node where g.until_learned_at >= $1 and g.until_learned_at < $2
union all
select 'doubt', n.id::text, '', w.wanted, null, b.from_at, b.until_at, b.learned_at, null
    from deviation_doubt b join node n on n.no = b.node join desired_clause w on w.id = b.desired where b.learned_at >= $1 and b.learned_at < $2
