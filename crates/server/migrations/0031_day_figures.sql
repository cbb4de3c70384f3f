-- The figures of all nodes at the end of each day in UTC, as they are known: what would take long to count again for each chart.
create table day_figure (
    day              date primary key,
    compliant        bigint not null,
    in_doubt         bigint not null,
    noncompliant     bigint not null,
    unexamined       bigint not null,
    unknown          bigint not null,
    nodes_compliant  bigint not null,
    nodes_deviating  bigint not null,
    nodes_critical   bigint not null,
    nodes_not_known  bigint not null
);
-- Days whose figures a later report may have altered. Many nodes report at once: no two wait for one row.
create table day_mark (
    id  bigint generated always as identity primary key,
    day date not null
);
