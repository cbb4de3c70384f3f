select place, digest from audit_chain order by place desc limit 1
