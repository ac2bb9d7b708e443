-- +goose Up
-- What is asked of a server anew at each base backup, and what it was called before: a copy that is
-- restored to an earlier moment has the superuser of that time.
alter table velvet.clusters
    add column data_directory text not null default '',
    add column former_superusers jsonb not null default '[]';
alter table velvet.backups add column damaged jsonb not null default '[]'; -- []layout.DamagedPage
