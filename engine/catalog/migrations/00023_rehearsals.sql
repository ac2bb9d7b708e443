-- +goose Up
create table velvet.rehearsals (                  -- asked for, running, and ended
    id          text primary key,                 -- of its task, too
    cluster_id  text        not null references velvet.clusters on delete cascade,
    pick        text        not null,             -- latest, random, oldest, or a moment
    asked_by    text        not null,
    asked_at    timestamptz not null default now(),
    not_before  timestamptz not null default now(),
    try         integer     not null default 1,
    begun_at    timestamptz,
    ended_at    timestamptz,
    moment      text        not null default '',
    backup_id   text        not null default '',
    proof_id    text        not null default '',
    outcome     text        not null default '',  -- core/rehearsal.Outcome
    cause       text        not null default '',  -- why it was not good
    laid_out_us bigint      not null default 0,
    replayed_us bigint      not null default 0,
    proved_us   bigint      not null default 0,
    bytes       bigint      not null default 0,   -- that were laid out
    wal         bigint      not null default 0,   -- bytes that were replayed
    lost_us     bigint      not null default -1,  -- how old the newest moment was that could be reached
    estimate_us bigint      not null default 0    -- that it was to take
);
create index on velvet.rehearsals (cluster_id, asked_at);
create index on velvet.rehearsals (ended_at);
create unique index one_wish_at_a_time on velvet.rehearsals (cluster_id) where begun_at is null;

alter table velvet.clusters
    add column back_within_seconds    integer not null default 0,  -- the objective; 0: none
    add column losing_at_most_seconds integer not null default 0;

-- +goose Down
alter table velvet.clusters drop column losing_at_most_seconds;
alter table velvet.clusters drop column back_within_seconds;
drop table velvet.rehearsals;
