update job set ended_at = $1, leased_until = null, fence = fence + 1 where ended_at is null
