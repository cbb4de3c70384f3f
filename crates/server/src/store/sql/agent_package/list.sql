select sha256, version, format, architecture, glibc, length(contents)::bigint as bytes, added_by, added_at from agent_package
