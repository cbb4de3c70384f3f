-- Runs that found again what the run before them found are counted in its span.
alter table run_span
    -- What they found, as a digest; none if all was in line.
    add column found text,
    -- The first of them, which is kept whole; none if all was in line.
    add column run uuid,
    add column status text not null default 'in_line';
alter table run_span alter column status drop default, add check ((found is null) = (run is null));
create index run_span_run on run_span (node, run) where run is not null;
