-- +goose Up
alter table velvet.copies add column moves integer not null default 0; -- how often it has been moved to another moment
alter table velvet.proofs add column moves integer not null default 0; -- of the copy, when it was proved
