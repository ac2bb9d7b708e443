-- +goose Up
-- The instance that captures a cluster, until it has ended that in order: who finds another one's
-- number takes over only when that must have noticed that its lease is gone.
alter table velvet.captures add column holder bigint not null default 0;
-- Up to where another instance, which cannot read the holder's spool, asks for WAL in the store.
alter table velvet.captures add column asked_lsn pg_lsn;
-- Why the server's WAL is no longer that which was captured; '' as long as it is.
alter table velvet.captures add column diverged text not null default '';
