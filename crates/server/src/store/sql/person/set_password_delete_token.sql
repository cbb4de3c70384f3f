delete from token where person = $1 and made_for = 'client'
