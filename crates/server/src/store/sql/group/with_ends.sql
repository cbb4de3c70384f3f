select body from node_group where until_at is null and superseded_at is null and body ? 'settings_until' order by name
