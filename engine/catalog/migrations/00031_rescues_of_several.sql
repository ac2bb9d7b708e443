-- +goose Up
alter table velvet.rescues add column also jsonb not null default '[]'; -- ids of other transactions that are undone with it

-- +goose Down
alter table velvet.rescues drop column also;
