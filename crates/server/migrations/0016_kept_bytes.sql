-- What a node has sent today of reports that are kept whole: there is a bound.
alter table node_now add column kept_day date;
alter table node_now add column kept_bytes bigint not null default 0;
