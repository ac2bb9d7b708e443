-- +goose Up
-- The tables of which one is a partition or child, as core/journal.Name has them.
alter table velvet.relation_names add column above text not null default '';

-- +goose Down
alter table velvet.relation_names drop column above;
