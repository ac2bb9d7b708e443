-- +goose Up
-- The store's first data key, by a fingerprint of it, and the number of its newest: whoever can write
-- to the store cannot put other keys in their place.
alter table velvet.installation add column key_fingerprint text not null default '';
alter table velvet.installation add column key_number bigint not null default 0;
