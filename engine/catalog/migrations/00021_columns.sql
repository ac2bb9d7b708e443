-- +goose Up
create table velvet.table_columns (          -- what the columns of tables were, and which transactions had seen to that
    cluster_id text        not null references velvet.clusters on delete cascade,
    database   bigint      not null,
    oid        bigint      not null,
    since      timestamptz not null,         -- by the server's clock, when they were asked for
    snapshot   text        not null,         -- in which they were seen, as the type pg_snapshot writes it
    columns    jsonb       not null,         -- as core/value.Column has them, in their order
    primary key (cluster_id, database, oid, since)
);

-- +goose Down
drop table velvet.table_columns;
