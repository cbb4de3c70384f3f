update change_freeze set ended_at = $2, ended_by = $3, ended_because = $4, counter = nextval('freeze_counter')
    where concession = $1 and ended_at is null and until_at > $2
