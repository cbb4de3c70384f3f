select digest, id from placement where digest = any($1)
