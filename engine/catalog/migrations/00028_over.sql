-- +goose Up
alter table velvet.copies add over boolean not null default false; -- laid over the original's own files
alter table velvet.takeovers add hba text not null default '';     -- pg_hba.conf by which clients are refused; '' where they are not

-- +goose Down
alter table velvet.takeovers drop hba;
alter table velvet.copies drop over;
