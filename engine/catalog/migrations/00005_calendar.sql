-- +goose Up
create table velvet.runs (                       -- segments that follow one another, so that a month of them is one row
    cluster_id  text   not null references velvet.clusters on delete cascade,
    timeline    bigint not null,
    first       bigint not null,                 -- numbers of its segments, both included
    last        bigint not null,
    start_lsn   pg_lsn not null,
    end_lsn     pg_lsn not null,
    last_commit timestamptz,
    primary key (cluster_id, timeline, first)
);
insert into velvet.runs
    select cluster_id, timeline, min(number), max(number), min(start_lsn), max(end_lsn), max(last_commit)
    from (select *, sum(case when start_lsn = before then 0 else 1 end) over (partition by cluster_id, timeline order by number) as run
        from (select *, lag(end_lsn) over (partition by cluster_id, timeline order by number) as before from velvet.segments) s) r
    group by cluster_id, timeline, run;

create index on velvet.backups (cluster_id, timeline, stop_lsn) where dropped_at is null;
create index on velvet.backups (cluster_id, stopped_at) where dropped_at is null;
create index on velvet.proofs (cluster_id, finished_at);
create index on velvet.copies (cluster_id) where state <> 'discarded';
create index on velvet.tasks (cluster_id, kind, created_at);
create index on velvet.tasks (state) where state in ('waiting', 'running');

alter table velvet.clusters
    add column labels    jsonb not null default '{}',
    add column keep_rule jsonb,                  -- keep.Rule; null: its policy's, or the default
    add column host      text not null default '', -- on which the server is, as the connection string names it
    add column replication_user   text not null default '', -- for replication sessions, '' the same as for SQL
    add column replication_sealed bytea,
    add column capture_alert_seconds integer not null default 300; -- a capture that stands still for so long needs a person

create table velvet.pins (
    backup_id  text primary key references velvet.backups on delete cascade,
    reason     text not null,
    until      timestamptz,
    pinned_at  timestamptz not null default now()
);

create table velvet.released (                   -- WAL that was let go
    cluster_id  text   not null references velvet.clusters on delete cascade,
    timeline    bigint not null,
    first       bigint not null,
    last        bigint not null,
    released_at timestamptz not null default now(),
    tidied      boolean not null default false,  -- its objects are gone
    primary key (cluster_id, timeline, first)
);

create table velvet.hole_causes (                -- why WAL from a place on was never captured
    cluster_id  text   not null references velvet.clusters on delete cascade,
    timeline    bigint not null,
    from_lsn    pg_lsn not null,
    cause       text   not null,
    found_at    timestamptz not null default now(),
    primary key (cluster_id, timeline, from_lsn)
);

create table velvet.policies (
    id         text primary key,
    name       text not null unique,
    labels     jsonb not null,                   -- of the clusters it applies to
    keep_rule  jsonb,
    second_store boolean,                        -- null: as each cluster says
    capture_alert_seconds integer,
    created_at timestamptz not null default now()
);

create table velvet.calendar (                   -- what recurs: for one cluster, for those of a policy, or for the store
    id         text primary key,
    cluster_id text references velvet.clusters on delete cascade,
    policy_id  text references velvet.policies on delete cascade,
    work       text not null,                    -- backup, keep, audit
    detail     text not null default '',         -- the kind of backup or audit
    schedule   jsonb not null,                   -- calendar.Schedule
    paused     boolean not null default false,
    since      timestamptz not null default now(), -- nothing before it is caught up
    created_at timestamptz not null default now()
);

create table velvet.calendar_runs (              -- each due time is begun once, whichever instance is first
    entry_id   text not null references velvet.calendar on delete cascade,
    cluster_id text not null,                    -- '' for the store
    due        timestamptz not null,
    begun_at   timestamptz not null default now(),
    task_id    text not null default '',
    problem    text not null default '',
    primary key (entry_id, cluster_id, due)
);

create unique index one_keep_run_at_a_time on velvet.tasks (cluster_id)
    where kind = 'keep run' and state in ('waiting', 'running');
