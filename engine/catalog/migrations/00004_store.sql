-- +goose Up
alter table velvet.backups
    add column beside       text   not null default '', -- the backup that it was compared with
    add column bytes_held   bigint not null default 0,  -- what its files hold together
    add column bytes_shared bigint not null default 0,  -- in packs of older backups
    add column extents      bigint not null default 0,
    add column new_extents  bigint not null default 0,
    add column zero_extents bigint not null default 0;

alter table velvet.clusters
    add column tidy_due     boolean not null default false, -- something was dropped whose space is still to be freed
    add column second_store boolean not null default true;  -- it is copied to the second store, if there is one

create table velvet.installation (id text not null);
insert into velvet.installation values (gen_random_uuid()::text);
