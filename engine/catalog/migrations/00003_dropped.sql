-- +goose Up
alter table velvet.backups add column dropped_at timestamptz; -- its content is being removed, or is gone
