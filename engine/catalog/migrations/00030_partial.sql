-- +goose Up
alter table velvet.copies add column partial jsonb not null default '{}'; -- core/partial.Spec of a copy that holds only some tables

-- +goose Down
alter table velvet.copies drop column partial;
