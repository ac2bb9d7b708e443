-- +goose Up
alter table velvet.rescues add column batches jsonb not null default '[]'; -- core/rescue.Batch: those that are committed

-- +goose Down
alter table velvet.rescues drop column batches;
