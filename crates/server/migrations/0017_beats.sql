-- How often servers noted that they are alive: a database that was put back knows fewer than were counted outside it.
alter table server_alive add column beats bigint not null default 0;
