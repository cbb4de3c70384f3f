-- That a node's operating system needs a restart is a fact about it, with a history.
alter table fact drop constraint fact_what_check;
alter table fact add constraint fact_what_check
    check (what in ('name', 'labels', 'about', 'agent', 'groups', 'stage', 'settings', 'wanted', 'unusable', 'restart_pending'));
