with frozen as (
    update change_freeze set counter = nextval('freeze_counter') where concession = $1 and ended_at is null and until_at > $2 returning no
), wanted as (
    select node.id from concession_node c join node on node.no = c.node where c.concession = $1 and c.until_at is null
), gone as (
    delete from freeze_node f using frozen where f.freeze_no = frozen.no and f.node not in (select id from wanted)
)
insert into freeze_node (freeze_no, node) select frozen.no, wanted.id from frozen cross join wanted on conflict do nothing
