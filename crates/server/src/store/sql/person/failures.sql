select count(*) filter (where name = $1) as of_both, max(at) filter (where name = $1) as last_of_both,
        count(*) as of_address, max(at) as last_of_address
    from sign_in_failure where address = $2 and at > $3::timestamptz - interval '15 minutes'
