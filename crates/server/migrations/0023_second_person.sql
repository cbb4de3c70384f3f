-- Who may not hand out requests a change; groups and stages may ask for a second person, who stands on the change.
alter table stage add column second_person boolean not null default false;
alter table change
    add column is_request  boolean not null default false,
    add column approved_by text,
    drop constraint change_status_check,
    add constraint change_status_check check (status in
        ('waiting', 'preparing', 'previewed', 'unconfirmed', 'requested', 'handed_out', 'refused', 'stopped', 'dropped'));
