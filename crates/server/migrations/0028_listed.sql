-- Lists in another order than by name find the nodes with their names here, and not in their long rows.
create index node_listed on node (id) include (name) where retired_at is null;
