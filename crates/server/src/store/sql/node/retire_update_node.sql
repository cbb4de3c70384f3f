update node set retired_at = $2, input_pending = false where id = any($1)
