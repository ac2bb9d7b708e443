-- +goose Up
-- The OS user of a cluster's copies, and of a copy; '' is the service's choice.
alter table velvet.clusters add column copies_user text not null default '';
alter table velvet.copies add column os_user text not null default '';
