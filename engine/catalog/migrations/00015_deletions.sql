-- +goose Up
-- What is deleted waits in the store before it is gone for good, and can be taken back until then.
alter table velvet.backups add column gone boolean not null default false;       -- its manifest is, or may be, deleted
alter table velvet.released add column going boolean not null default false;     -- its objects are, or may be, deleted
alter table velvet.released add column due_at timestamptz;                       -- when to look again; the store's notice decides
alter table velvet.clusters add column tidy_after timestamptz;                   -- the same of packs
update velvet.backups set gone = true where dropped_at is not null;
update velvet.released set going = true;

create table velvet.deleted_segments (like velvet.segments including defaults);  -- of WAL that is not gone yet
alter table velvet.deleted_segments add foreign key (cluster_id) references velvet.clusters on delete cascade;
create index deleted_segments_by_place on velvet.deleted_segments (cluster_id, timeline, number);

create table velvet.removed_clusters (id text primary key, name text not null, removed_at timestamptz not null default now(), look_at timestamptz);
