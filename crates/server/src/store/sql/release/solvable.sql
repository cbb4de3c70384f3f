select kit, version, requires from release where withdrawn_at is null
