-- +goose Up
-- Why the records of a segment cannot be read, which is stored as it came; '' for one that can.
alter table velvet.segments add column unreadable text not null default '';
create index on velvet.segments (cluster_id) where unreadable <> '';
