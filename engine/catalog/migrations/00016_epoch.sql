-- +goose Up
-- The store's epoch that this catalogue has taken, and the mark of the one that it is taking: a copy of
-- the catalogue, or an old state of it, has another than the store.
alter table velvet.installation add column epoch bigint not null default 0;
alter table velvet.installation add column epoch_mark text not null default '';
