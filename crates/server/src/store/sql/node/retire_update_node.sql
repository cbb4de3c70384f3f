update node set retired_at = $2, retired_by = $3, input_pending = false where id = any($1)
