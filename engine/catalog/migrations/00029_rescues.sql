-- +goose Up
create table velvet.rescues (
    id         text        primary key,
    cluster_id text        not null references velvet.clusters on delete cascade,
    copy_id    text        not null,
    task_id    text        not null default '',
    moment     text        not null,              -- of the copy
    xid        bigint      not null,              -- of the transaction whose rows are brought back
    state      text        not null,              -- looking, planned, tried, writing, applied or failed
    own_xid    bigint      not null default 0,    -- of the transaction that wrote them, from just before it was committed
    plan       jsonb       not null default '{}', -- core/rescue.Plan
    checks     jsonb       not null default '[]', -- core/rescue.Check
    begun_at   timestamptz not null default now(),
    ended_at   timestamptz
);
create index on velvet.rescues (cluster_id, begun_at);

-- +goose Down
drop table velvet.rescues;
