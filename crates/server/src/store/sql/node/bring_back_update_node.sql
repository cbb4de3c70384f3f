update node set retired_at = null, retired_by = null, name = $2 where id = $1 and retired_at is not null returning revoked_at is not null
