select no from change where who = $1 and request_key = $2
