select node.id, node.name, node.labels, (select spki_digest from node_key k where k.node = node.id order by k.issued_at desc limit 1) as spki_digest,
        node.joined_at, node.retired_at, node.retired_by as change, c.who, c.because,
        exists (select 1 from node other where other.name = node.name and other.retired_at is null) as is_name_in_use
    from node left join change c on c.no = node.retired_by
    where node.retired_at is not null and node.name like $4
        and ($1::timestamptz is null or (node.retired_at, node.id::text) < ($1, $2::text))
    order by node.retired_at desc, node.id::text desc limit $3
