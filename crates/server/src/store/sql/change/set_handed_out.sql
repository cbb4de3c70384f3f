update change set status = 'handed_out', ended_at = $2, impact = $4, first_counter = $3 + 1,
    last_counter = (select last_value from generation_counter) where no = $1
