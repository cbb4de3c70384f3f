-- Which group assigns which baseline, each with all that it includes: [[group, baseline, [baseline, …]], …].
alter table placement add column assignments jsonb not null default '[]';
