select contents from agent_package where sha256 = $1
