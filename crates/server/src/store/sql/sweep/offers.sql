with open as (
    select s.no, s.id, s.body, s.who, s.because, s.ends_at, x.observed, x.node from sweep_node x join sweep s on s.no = x.sweep join node_now n on n.node = x.node
        where x.node = $1 and x.done_at is null and x.refused is null and s.begins_at <= $2 and s.ends_at > $2 and s.stopped_at is null and n.duplicate_identity_since is null
        order by s.no limit 20
), offered as (
    update sweep_node x set offered_at = $2 from open where x.sweep = open.no and x.node = open.node and x.offered_at is null
)
select open.no, open.id, open.body, open.who, open.because, open.ends_at, open.observed, w.epoch, w.counter
    from open left join node_wanted w on w.node = open.node order by open.no
