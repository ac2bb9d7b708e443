-- +goose Up

create table velvet.clusters (
    id              text primary key,
    name            text not null unique,
    conn_string     text not null,               -- without password
    password_sealed bytea,                       -- encrypted with the service's key
    system_id       numeric(20) not null,
    server_version  integer not null,            -- server_version_num
    segment_size    bigint not null,
    data_checksums  boolean not null,
    superuser       text not null,               -- the bootstrap superuser's name
    slot            text not null,
    created_at      timestamptz not null default now()
);

create table velvet.captures (
    cluster_id    text primary key references velvet.clusters on delete cascade,
    wanted        boolean not null default true, -- should be running
    state         text not null,
    problem       text not null default '',
    timeline      bigint not null default 0,
    received_lsn  pg_lsn,
    flushed_lsn   pg_lsn,                        -- safe in spool or store
    stored_lsn    pg_lsn,                        -- safe in the store
    server_lsn    pg_lsn,
    complete_to   timestamptz,                   -- server time up to which all WAL was flushed here
    since         timestamptz not null default now(),
    updated_at    timestamptz not null default now()
);

create table velvet.segments (
    cluster_id   text not null references velvet.clusters on delete cascade,
    timeline     bigint not null,
    number       bigint not null,
    name         text not null,
    start_lsn    pg_lsn not null,
    end_lsn      pg_lsn not null,                -- less than the segment's end where a timeline was left
    stored_bytes bigint not null,
    records      bigint not null,
    last_commit  timestamptz,                    -- newest commit time in the segment
    stored_at    timestamptz not null default now(),
    primary key (cluster_id, timeline, number)
);

create table velvet.timelines (
    cluster_id text not null references velvet.clusters on delete cascade,
    timeline   bigint not null,
    parent     bigint not null,
    forked_at  pg_lsn not null,
    history    text not null,
    primary key (cluster_id, timeline)
);

create table velvet.backups (
    id           text primary key,
    cluster_id   text not null references velvet.clusters,
    kind         text not null,
    timeline     bigint not null,
    start_lsn    pg_lsn not null,
    stop_lsn     pg_lsn not null,
    started_at   timestamptz not null,
    stopped_at   timestamptz not null,
    files        bigint not null,
    bytes_read   bigint not null,
    bytes_stored bigint not null,
    pages        bigint not null,
    page_faults  bigint not null,
    tablespaces  jsonb not null,
    task_id      text not null
);

create table velvet.copies (
    id           text primary key,
    cluster_id   text not null references velvet.clusters,
    backup_id    text not null references velvet.backups,
    moment       text not null,
    plan         jsonb not null,
    directory    text not null,
    socket       text not null,
    port         integer not null,
    state        text not null,
    problem      text not null default '',
    replayed_lsn pg_lsn,
    replayed_to  timestamptz,                    -- commit time of the last transaction replayed
    paused_lsn   pg_lsn,                         -- where replay came to stand
    created_at   timestamptz not null default now(),
    task_id      text not null
);

create table velvet.proofs (
    id          text primary key,
    copy_id     text not null references velvet.copies,
    cluster_id  text not null references velvet.clusters,
    moment      text not null,
    verdict     text not null,
    checks      jsonb not null,
    started_at  timestamptz not null,
    finished_at timestamptz not null,
    task_id     text not null
);

create table velvet.tasks (
    id          text primary key,
    kind        text not null,
    cluster_id  text references velvet.clusters on delete cascade,
    subject     text not null default '',        -- id of what it makes or works on
    arguments   jsonb not null,
    state       text not null,                   -- waiting, running, done, failed, cancelled
    done        bigint not null default 0,
    total       bigint not null default 0,
    unit        text not null default '',
    note        text not null default '',
    outcome     jsonb,
    problem     jsonb,
    owner       bigint,                          -- the service instance that runs it
    job_id      bigint,
    created_at  timestamptz not null default now(),
    started_at  timestamptz,
    finished_at timestamptz
);
create index on velvet.tasks (created_at desc);
create unique index one_backup_at_a_time on velvet.tasks (cluster_id)
    where kind = 'backup' and state in ('waiting', 'running');

create table velvet.task_lines (
    task_id text not null references velvet.tasks on delete cascade,
    number  integer not null,
    at      timestamptz not null default now(),
    level   text not null,
    text    text not null,
    primary key (task_id, number)
);

create table velvet.sign_ins (                   -- one-time links and browser sessions, hashed
    hash       bytea primary key,
    kind       text not null,
    expires_at timestamptz not null
);

create sequence velvet.instances as bigint;      -- each running service takes a number and holds its advisory lock
