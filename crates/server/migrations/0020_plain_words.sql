-- The words of the vocabulary: a node attribute is what was so of a node, with its history; a duplicate identity is two
-- machines that show one identity; an activity is long work in progress.
alter table fact rename to node_attribute;
alter table node_attribute rename column what to name;
alter index fact_now rename to node_attribute_now;
alter index fact_history rename to node_attribute_history;
alter table node_now rename column double_since to duplicate_identity_since;
alter table node_wanted rename column explained to sources;
alter table work rename to activity;
alter table activity rename column told_at to updated_at;
