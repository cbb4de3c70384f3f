select greatest(fleet.epoch, (select epoch from recovery where ended_at is null)), coalesce((select max(counter) from change_freeze), 0) from fleet
