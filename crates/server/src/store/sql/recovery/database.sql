select system_identifier || '/' || left(pg_walfile_name(pg_current_wal_lsn()), 8) || '/' || d.oid as identity,
        coalesce((select beats from server_alive), 0) as beats,
        (select case when is_called then last_value else 0 end from generation_counter) as counter,
        greatest(1, (select max(epoch) from node_wanted), (select max(epoch) from recovery)) as epoch
    from pg_control_system(), pg_database d where d.datname = current_database()
