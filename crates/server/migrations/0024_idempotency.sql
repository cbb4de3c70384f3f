-- A request that is repeated with its key is answered with the change that it made.
alter table change add column request_key text;
create unique index change_of_request on change (who, request_key) where request_key is not null;
