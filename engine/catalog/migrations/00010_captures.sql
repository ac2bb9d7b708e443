-- +goose Up
-- What a capture's needs for attention are computed from: WAL that waits for the store, WAL that
-- the slot has the server retain and how much more that may become (-1: not known), by how much
-- the server's clock is ahead of the service's, and up to where the segment that is being received
-- can be read, if it is damaged.
alter table velvet.captures
    add column spooled bigint not null default 0,
    add column retained bigint not null default 0,
    add column room bigint not null default -1,
    add column clock_ahead_us bigint not null default 0,
    add column readable_to pg_lsn;
