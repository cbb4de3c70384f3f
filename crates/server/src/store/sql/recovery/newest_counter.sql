select case when is_called then last_value else 0 end from generation_counter
