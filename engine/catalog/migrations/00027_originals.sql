-- +goose Up
alter table velvet.originals add host_id text not null default ''; -- on which it was seen; '' is the service's own

-- +goose Down
alter table velvet.originals drop host_id;
