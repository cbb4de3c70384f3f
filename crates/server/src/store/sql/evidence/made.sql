update evidence set status = 'made', ended_at = $2, rows = $3, bytes = $4, sha256 = $5, key = $6, figures = $7 where no = $1 and status = 'waiting'
