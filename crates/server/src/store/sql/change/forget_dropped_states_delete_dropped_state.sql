delete from dropped_state
