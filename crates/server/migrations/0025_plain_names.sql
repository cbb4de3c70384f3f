-- Columns named as the rest of the product names what they hold.
alter table node_exception rename column said to message;
alter table node_now rename column said to attributes_digest;
