update evidence set status = $2, ended = $3, ended_at = $4 where no = $1 and status = any ($5)
