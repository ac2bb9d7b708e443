-- +goose Up
create table velvet.relation_names (         -- what relation files were called, and since when that is known
    cluster_id text not null references velvet.clusters on delete cascade,
    space      bigint not null,
    database   bigint not null,
    filenode   bigint not null,
    since      timestamptz not null,
    oid        bigint not null,              -- of the table
    database_name text not null,
    schema     text not null,
    name       text not null,                -- of the table
    part       smallint not null,            -- journal.Part
    rows       bigint not null,              -- the server's estimate, -1 where it has none
    primary key (cluster_id, space, database, filenode, since)
);

create table velvet.incidents (
    cluster_id   text not null references velvet.clusters on delete cascade,
    timeline     bigint not null,
    lsn          pg_lsn not null,            -- start of the commit record
    xid          bigint not null,            -- with its epoch
    committed_at timestamptz not null,
    reasons      jsonb not null,
    recorded_at  timestamptz not null default now(),
    settled_at   timestamptz,                -- somebody has said that it was meant
    primary key (cluster_id, timeline, lsn)
);

alter table velvet.clusters
    add column alert_drops boolean not null default true,
    add column alert_rows  bigint not null default 10000,
    add column alert_share double precision not null default 0.5;
