-- +goose Up
-- What audits could not read of a cluster: base backups and segments that nothing leads through.
create table velvet.losses (
    cluster_id text primary key references velvet.clusters on delete cascade,
    found      jsonb not null,
    found_at   timestamptz not null default now()
);
