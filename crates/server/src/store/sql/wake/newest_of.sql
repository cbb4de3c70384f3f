select wake from node_wake where node = $1
