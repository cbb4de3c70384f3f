select exists (select 1 from joining_request where decision = 'denied' and spki_digest = $1)
    or exists (select 1 from joining_request where decision = 'denied' and name = $2)
