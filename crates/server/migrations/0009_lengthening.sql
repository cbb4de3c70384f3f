-- What only lengthens a span touches no index any more, and finds room beside the row. The order of a node's runs is the
-- order in which they were learned, which is that of their sequence: a node's clock may be wrong.
drop index run_span_of_node;
create index run_span_of_node on run_span (node, id);
alter table run_span set (fillfactor = 80);
drop index heard_of_node;
create index heard_of_node on heard (node, id);
alter table heard set (fillfactor = 80);
drop index run_of_node;
create index run_of_node on run (node, learned_at desc);
