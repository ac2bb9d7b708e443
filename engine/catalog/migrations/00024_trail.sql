-- +goose Up
create table velvet.trail (                  -- who did what; nothing is ever changed in it, or removed
    number     bigint primary key,           -- from 1 on, without gaps
    at         timestamptz not null,
    who        text        not null,
    called     text        not null,         -- the address that they called from
    did        text        not null,
    cluster_id text        not null,         -- kept when the cluster is removed
    subject    text        not null,
    outcome    text        not null,
    hash       text        not null          -- core/trail
);
create index on velvet.trail (cluster_id, number);

-- +goose Down
drop table velvet.trail;
