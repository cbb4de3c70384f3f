-- The few nodes of one status are found among all without looking at each. A status seldom changes, so check-ins do not write here.
create index node_now_status on node_now (full_status);
