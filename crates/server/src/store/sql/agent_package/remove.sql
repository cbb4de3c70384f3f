delete from agent_package where sha256 = $1
