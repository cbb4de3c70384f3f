select digest, body from report_text where digest = any($1)
