-- The catalogue that Velvet Rewind of commit f8d41b5 left, as its role velvet had made it in the
-- database velvet: its migrations as they were, and the rows of one small cluster. Loaded with psql.
set client_min_messages = warning;
create schema velvet;

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
alter table velvet.backups add column dropped_at timestamptz; -- its content is being removed, or is gone
alter table velvet.backups
    add column beside       text   not null default '', -- the backup that it was compared with
    add column bytes_held   bigint not null default 0,  -- what its files hold together
    add column bytes_shared bigint not null default 0,  -- in packs of older backups
    add column extents      bigint not null default 0,
    add column new_extents  bigint not null default 0,
    add column zero_extents bigint not null default 0;

alter table velvet.clusters
    add column tidy_due     boolean not null default false, -- something was dropped whose space is still to be freed
    add column second_store boolean not null default true;  -- it is copied to the second store, if there is one

create table velvet.installation (id text not null);
insert into velvet.installation values (gen_random_uuid()::text);
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
alter table velvet.copies add column moves integer not null default 0; -- how often it has been moved to another moment
alter table velvet.proofs add column moves integer not null default 0; -- of the copy, when it was proved
-- What audits could not read of a cluster: base backups and segments that nothing leads through.
create table velvet.losses (
    cluster_id text primary key references velvet.clusters on delete cascade,
    found      jsonb not null,
    found_at   timestamptz not null default now()
);
create table public.velvet_migrations (id integer primary key generated by default as identity, version_id bigint not null, is_applied boolean not null, tstamp timestamp not null default now());
delete from velvet.installation;
copy public.velvet_migrations (id, version_id, is_applied, tstamp) from stdin;
1	0	t	2026-11-26 06:14:09.067973
2	1	t	2026-11-26 06:14:09.073958
3	2	t	2026-11-26 06:14:09.093213
4	3	t	2026-11-26 06:14:09.097568
5	4	t	2026-11-26 06:14:09.098045
6	5	t	2026-11-26 06:14:09.100587
7	6	t	2026-11-26 06:14:09.119246
8	7	t	2026-11-26 06:14:09.120258
\.
copy velvet.installation (id) from stdin;
a8fee0cc-e2fb-413f-83be-847595015038
\.
copy velvet.clusters (id, name, conn_string, password_sealed, system_id, server_version, segment_size, data_checksums, superuser, slot, created_at, alert_drops, alert_rows, alert_share, tidy_due, second_store, labels, keep_rule, host, replication_user, replication_sealed, capture_alert_seconds) from stdin;
01m8b7tzs3rgf16nppbekwekfb	ferries	host=127.0.0.1 port=5702 user=velvet dbname=postgres sslmode=disable	\\x22c1e569a5e9e1e93d0750ee04299220f0474c6be67ac1415be185d2c4a621fe5c242af100b1b1028cef67b857e912adb9eeaf058f179f5fb2206a118502	7712359586978046612	150018	1048576	t	harbourmaster	velvet_01m8b7tzs3rgf16nppbekwekfb	2026-11-26 06:14:13.052508+00	t	100	0.5	f	t	{"fleet": "outer"}	{"count": 0, "daily": 0, "weekly": 0, "yearly": 0, "monthly": 0, "spanHours": 480}	127.0.0.1		\N	300
\.
copy velvet.captures (cluster_id, wanted, state, problem, timeline, received_lsn, flushed_lsn, stored_lsn, server_lsn, complete_to, since, updated_at) from stdin;
01m8b7tzs3rgf16nppbekwekfb	t	streaming		1	0/B01A90	0/B01A90	0/B00000	0/B01A90	2026-11-26 06:14:21.079279+00	2026-11-26 06:14:13.566956+00	2026-11-26 06:14:21.566739+00
\.
copy velvet.timelines (cluster_id, timeline, parent, forked_at, history) from stdin;
\.
copy velvet.segments (cluster_id, timeline, number, name, start_lsn, end_lsn, stored_bytes, records, last_commit, stored_at) from stdin;
01m8b7tzs3rgf16nppbekwekfb	1	8	000000010000000000000008	0/800000	0/900000	142172	6358	2026-11-26 06:14:08.757545+00	2026-11-26 06:14:15.336235+00
01m8b7tzs3rgf16nppbekwekfb	1	9	000000010000000000000009	0/900000	0/A00000	644	4	\N	2026-11-26 06:14:15.343169+00
01m8b7tzs3rgf16nppbekwekfb	1	10	00000001000000000000000A	0/A00000	0/B00000	40579	2925	2026-11-26 06:14:15.452991+00	2026-11-26 06:14:15.604022+00
\.
copy velvet.runs (cluster_id, timeline, first, last, start_lsn, end_lsn, last_commit) from stdin;
01m8b7tzs3rgf16nppbekwekfb	1	8	10	0/800000	0/B00000	2026-11-26 06:14:15.452991+00
\.
copy velvet.backups (id, cluster_id, kind, timeline, start_lsn, stop_lsn, started_at, stopped_at, files, bytes_read, bytes_stored, pages, page_faults, tablespaces, task_id, dropped_at, beside, bytes_held, bytes_shared, extents, new_extents, zero_extents) from stdin;
01m8b7v1sqzjeeys3ezjb6dd3e	01m8b7tzs3rgf16nppbekwekfb	full	1	0/900028	0/900100	2026-11-26 06:14:15.112516+00	2026-11-26 06:14:15.253498+00	970	23279067	3104708	2833	0	[]	01m8b7v1sqzjeeys3eznwyv4sw	\N		23279067	0	850	848	2
\.
copy velvet.copies (id, cluster_id, backup_id, moment, plan, directory, socket, port, state, problem, replayed_lsn, replayed_to, paused_lsn, created_at, task_id, moves) from stdin;
01m8b7v6bk4gmpvpha72jm2kze	01m8b7tzs3rgf16nppbekwekfb	01m8b7v1sqzjeeys3ezjb6dd3e	before delete of booking	{"base": "01m8b7v1sqzjeeys3ezjb6dd3e", "start": "0/900028", "boundary": {"end": "0/A48D40", "stop": "0/A48D40", "lastIn": {"lsn": "0/A00DA0", "xid": 729, "time": "2026-11-26T06:14:15.411693Z"}, "moment": "before delete of booking", "firstOut": {"lsn": "0/A48D40", "xid": 730, "time": "2026-11-26T06:14:15.41589Z"}, "timeline": 1, "inclusive": false}, "segments": 2, "lastSegment": "00000001000000000000000A", "replayBytes": 1346840, "firstSegment": "000000010000000000000009"}	/tmp/fx/home/copies/01m8b7v6bk4gmpvpha72jm2kze	/tmp/fx/home/copies/01m8b7v6bk4gmpvpha72jm2kze/socket	22151	discarded		0/A48D40	2026-11-26 06:14:15.411693+00	0/A48D40	2026-11-26 06:14:19.764015+00	01m8b7v6bqn27kkpswmdv98h9e	0
\.
copy velvet.proofs (id, copy_id, cluster_id, moment, verdict, checks, started_at, finished_at, task_id, moves) from stdin;
01m8b7v7amfee5xgmtvddy8n4z	01m8b7v6bk4gmpvpha72jm2kze	01m8b7tzs3rgf16nppbekwekfb	before delete of booking	passed	[{"name": "boundary", "summary": "replay stopped at 0/A48D40, before the record at 0/A48D40, as planned", "verdict": "passed"}, {"name": "last transaction in", "summary": "tx 729 (committed 06:14:15.411693 UTC) is in; the copy says committed", "verdict": "passed"}, {"name": "first transaction out", "summary": "tx 730 (committed 06:14:15.415890 UTC on the original) is out; the copy says aborted", "verdict": "passed"}, {"name": "pages", "summary": "2833 pages in 951 files read; every checksum is right", "verdict": "passed"}, {"name": "tables", "tables": [{"table": "public.booking", "copyRows": 3001, "database": "postgres", "liveRows": 102}], "summary": "1 tables read to the end, 3001 rows; live rows counted at 2026-11-26 06:14:20 UTC", "verdict": "passed"}]	2026-11-26 06:14:20.713679+00	2026-11-26 06:14:20.756232+00	01m8b7v793she99q3071dn8rag	0
\.
copy velvet.tasks (id, kind, cluster_id, subject, arguments, state, done, total, unit, note, outcome, problem, owner, job_id, created_at, started_at, finished_at) from stdin;
01m8b7v1sqzjeeys3eznwyv4sw	backup	01m8b7tzs3rgf16nppbekwekfb	01m8b7v1sqzjeeys3ezjb6dd3e	{"fast": true, "kind": "auto"}	done	0	0		waiting for capture to hold the WAL up to 0/900100	{"kind": "full", "files": 970, "backup": "01m8b7v1sqzjeeys3ezjb6dd3e", "bytesRead": 23279067, "pageFaults": 0, "bytesStored": 3104708}	\N	1	1	2026-11-26 06:14:15.095993+00	2026-11-26 06:14:15.1029+00	2026-11-26 06:14:15.257857+00
01m8b7v793she99q3071dn8rag	proof	01m8b7tzs3rgf16nppbekwekfb	01m8b7v6bk4gmpvpha72jm2kze	{}	done	0	1	tables	counting public.booking in the live postgres	{"proof": "01m8b7v7amfee5xgmtvddy8n4z", "verdict": "passed"}	\N	1	3	2026-11-26 06:14:20.707416+00	2026-11-26 06:14:20.71082+00	2026-11-26 06:14:20.761854+00
01m8b7v6bqn27kkpswmdv98h9e	side copy	01m8b7tzs3rgf16nppbekwekfb	01m8b7v6bk4gmpvpha72jm2kze	{"plan": {"base": "01m8b7v1sqzjeeys3ezjb6dd3e", "start": "0/900028", "boundary": {"end": "0/A48D40", "stop": "0/A48D40", "lastIn": {"lsn": "0/A00DA0", "xid": 729, "time": "2026-11-26T06:14:15.411693Z"}, "moment": "before delete of booking", "firstOut": {"lsn": "0/A48D40", "xid": 730, "time": "2026-11-26T06:14:15.41589Z"}, "timeline": 1, "inclusive": false}, "segments": 2, "lastSegment": "00000001000000000000000A", "replayBytes": 1346840, "firstSegment": "000000010000000000000009"}}	done	1346840	1346840	bytes	replayed to 0/A48D40, 2026-11-26 06:14:15.411 UTC	{"copy": "01m8b7v6bk4gmpvpha72jm2kze", "port": 22151}	\N	1	2	2026-11-26 06:14:19.767587+00	2026-11-26 06:14:19.77415+00	2026-11-26 06:14:20.380897+00
01m8b7v7hj8vkk4ahnks3yer25	discard copy	01m8b7tzs3rgf16nppbekwekfb	01m8b7v6bk4gmpvpha72jm2kze	{}	done	0	0			\N	\N	1	4	2026-11-26 06:14:20.978298+00	2026-11-26 06:14:20.981496+00	2026-11-26 06:14:21.960481+00
\.
copy velvet.task_lines (task_id, number, at, level, text) from stdin;
01m8b7v1sqzjeeys3eznwyv4sw	1	2026-11-26 06:14:15.10858+00	info	a full backup is taken: there is none to compare with
01m8b7v1sqzjeeys3eznwyv4sw	2	2026-11-26 06:14:15.13551+00	info	backup 01m8b7v1sqzjeeys3ezjb6dd3e begins at 0/900028 on timeline 1; about 22.7 MiB, 0 tablespaces besides the data directory
01m8b7v1sqzjeeys3eznwyv4sw	3	2026-11-26 06:14:15.241473+00	info	the server's backup manifest agrees: 970 files, sizes and checksums
01m8b7v1sqzjeeys3eznwyv4sw	4	2026-11-26 06:14:15.252974+00	info	the server ended the backup at 0/900100; 970 files, 23279067 bytes, 2833 pages read
01m8b7v1sqzjeeys3eznwyv4sw	5	2026-11-26 06:14:15.253547+00	info	every page checksum is right (2833 pages)
01m8b7v1sqzjeeys3eznwyv4sw	6	2026-11-26 06:14:15.255276+00	info	capture holds the WAL from 0/900028 to 0/900100
01m8b7v1sqzjeeys3eznwyv4sw	7	2026-11-26 06:14:15.257246+00	info	full backup 01m8b7v1sqzjeeys3ezjb6dd3e is complete
01m8b7v6bqn27kkpswmdv98h9e	1	2026-11-26 06:14:19.779866+00	info	laying out base 01m8b7v1sqzjeeys3ezjb6dd3e in /tmp/fx/home/copies/01m8b7v6bk4gmpvpha72jm2kze
01m8b7v6bqn27kkpswmdv98h9e	2	2026-11-26 06:14:20.149195+00	info	starting the copy on 127.0.0.1, port 22151; it replays 2 segments (000000010000000000000009 to 00000001000000000000000A) and stops at 0/A48D40
01m8b7v6bqn27kkpswmdv98h9e	3	2026-11-26 06:14:20.367179+00	info	server: starting PostgreSQL 15.18 (Debian 15.18-0+deb12u1) on x86_64-pc-linux-gnu, compiled by gcc (Debian 12.2.0-14+deb12u1) 12.2.0, 64-bit
01m8b7v6bqn27kkpswmdv98h9e	4	2026-11-26 06:14:20.367747+00	info	server: listening on IPv4 address "127.0.0.1", port 22151
01m8b7v6bqn27kkpswmdv98h9e	5	2026-11-26 06:14:20.368007+00	info	server: listening on Unix socket "/tmp/fx/home/copies/01m8b7v6bk4gmpvpha72jm2kze/socket/.s.PGSQL.22151"
01m8b7v6bqn27kkpswmdv98h9e	6	2026-11-26 06:14:20.368199+00	info	server: database system was interrupted; last known up at 2026-11-26 06:14:15 UTC
01m8b7v6bqn27kkpswmdv98h9e	7	2026-11-26 06:14:20.368394+00	info	server: starting point-in-time recovery to WAL location (LSN) "0/A48D40"
01m8b7v6bqn27kkpswmdv98h9e	8	2026-11-26 06:14:20.368632+00	info	server: starting backup recovery with redo LSN 0/900028, checkpoint LSN 0/900060, on timeline ID 1
01m8b7v6bqn27kkpswmdv98h9e	9	2026-11-26 06:14:20.369253+00	info	server: restored log file "000000010000000000000009" from archive
01m8b7v6bqn27kkpswmdv98h9e	10	2026-11-26 06:14:20.369477+00	info	server: redo starts at 0/900028
01m8b7v6bqn27kkpswmdv98h9e	11	2026-11-26 06:14:20.369664+00	info	server: restored log file "00000001000000000000000A" from archive
01m8b7v6bqn27kkpswmdv98h9e	12	2026-11-26 06:14:20.369835+00	info	server: completed backup recovery with redo LSN 0/900028 and end LSN 0/900100
01m8b7v6bqn27kkpswmdv98h9e	13	2026-11-26 06:14:20.370009+00	info	server: consistent recovery state reached at 0/900100
01m8b7v6bqn27kkpswmdv98h9e	14	2026-11-26 06:14:20.370175+00	info	server: database system is ready to accept read-only connections
01m8b7v6bqn27kkpswmdv98h9e	15	2026-11-26 06:14:20.370359+00	info	server: recovery stopping before WAL location (LSN) "0/A48D40"
01m8b7v6bqn27kkpswmdv98h9e	16	2026-11-26 06:14:20.370557+00	info	server: pausing at the end of recovery
01m8b7v6bqn27kkpswmdv98h9e	17	2026-11-26 06:14:20.370801+00	info	server: Execute pg_wal_replay_resume() to promote.
01m8b7v6bqn27kkpswmdv98h9e	18	2026-11-26 06:14:20.378597+00	info	paused at 0/A48D40, read-only; port 22151 on 127.0.0.1
01m8b7v793she99q3071dn8rag	1	2026-11-26 06:14:20.717402+00	info	boundary: passed
01m8b7v793she99q3071dn8rag	2	2026-11-26 06:14:20.717734+00	info	last transaction in: passed
01m8b7v793she99q3071dn8rag	3	2026-11-26 06:14:20.717906+00	info	first transaction out: passed
01m8b7v793she99q3071dn8rag	4	2026-11-26 06:14:20.731118+00	info	pages: passed
01m8b7v793she99q3071dn8rag	5	2026-11-26 06:14:20.755577+00	info	tables: passed
01m8b7v793she99q3071dn8rag	6	2026-11-26 06:14:20.760988+00	info	verdict: passed
01m8b7v7hj8vkk4ahnks3yer25	1	2026-11-26 06:14:21.959713+00	info	the copy's server was ended and /tmp/fx/home/copies/01m8b7v6bk4gmpvpha72jm2kze removed; backups and WAL are untouched
\.
copy velvet.relation_names (cluster_id, space, database, filenode, since, oid, database_name, schema, name, part, rows) from stdin;
01m8b7tzs3rgf16nppbekwekfb	1663	5	2337	2026-11-26 06:14:13.074593+00	2620	postgres	pg_catalog	pg_trigger	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2336	2026-11-26 06:14:13.074593+00	2620	postgres	pg_catalog	pg_trigger	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2831	2026-11-26 06:14:13.074593+00	2604	postgres	pg_catalog	pg_attrdef	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2830	2026-11-26 06:14:13.074593+00	2604	postgres	pg_catalog	pg_attrdef	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2833	2026-11-26 06:14:13.074593+00	2606	postgres	pg_catalog	pg_constraint	1	111
01m8b7tzs3rgf16nppbekwekfb	1663	5	2832	2026-11-26 06:14:13.074593+00	2606	postgres	pg_catalog	pg_constraint	1	111
01m8b7tzs3rgf16nppbekwekfb	1663	5	2835	2026-11-26 06:14:13.074593+00	2609	postgres	pg_catalog	pg_description	1	5136
01m8b7tzs3rgf16nppbekwekfb	1663	5	2834	2026-11-26 06:14:13.074593+00	2609	postgres	pg_catalog	pg_description	1	5136
01m8b7tzs3rgf16nppbekwekfb	1663	5	2837	2026-11-26 06:14:13.074593+00	1255	postgres	pg_catalog	pg_proc	1	3244
01m8b7tzs3rgf16nppbekwekfb	1663	5	2836	2026-11-26 06:14:13.074593+00	1255	postgres	pg_catalog	pg_proc	1	3244
01m8b7tzs3rgf16nppbekwekfb	1663	5	2838	2026-11-26 06:14:13.074593+00	2618	postgres	pg_catalog	pg_rewrite	1	142
01m8b7tzs3rgf16nppbekwekfb	1663	5	2839	2026-11-26 06:14:13.074593+00	2618	postgres	pg_catalog	pg_rewrite	1	142
01m8b7tzs3rgf16nppbekwekfb	1663	5	2841	2026-11-26 06:14:13.074593+00	2619	postgres	pg_catalog	pg_statistic	1	404
01m8b7tzs3rgf16nppbekwekfb	1663	5	2840	2026-11-26 06:14:13.074593+00	2619	postgres	pg_catalog	pg_statistic	1	404
01m8b7tzs3rgf16nppbekwekfb	1664	0	2847	2026-11-26 06:14:13.074593+00	2396	postgres	pg_catalog	pg_shdescription	1	1
01m8b7tzs3rgf16nppbekwekfb	1664	0	2846	2026-11-26 06:14:13.074593+00	2396	postgres	pg_catalog	pg_shdescription	1	1
01m8b7tzs3rgf16nppbekwekfb	1664	0	2966	2026-11-26 06:14:13.074593+00	2964	postgres	pg_catalog	pg_db_role_setting	1	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	2967	2026-11-26 06:14:13.074593+00	2964	postgres	pg_catalog	pg_db_role_setting	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3430	2026-11-26 06:14:13.074593+00	3429	postgres	pg_catalog	pg_statistic_ext_data	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3431	2026-11-26 06:14:13.074593+00	3429	postgres	pg_catalog	pg_statistic_ext_data	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3439	2026-11-26 06:14:13.074593+00	3381	postgres	pg_catalog	pg_statistic_ext	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3440	2026-11-26 06:14:13.074593+00	3381	postgres	pg_catalog	pg_statistic_ext	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3598	2026-11-26 06:14:13.074593+00	3596	postgres	pg_catalog	pg_seclabel	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3599	2026-11-26 06:14:13.074593+00	3596	postgres	pg_catalog	pg_seclabel	1	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	4061	2026-11-26 06:14:13.074593+00	3592	postgres	pg_catalog	pg_shseclabel	1	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	4060	2026-11-26 06:14:13.074593+00	3592	postgres	pg_catalog	pg_shseclabel	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4144	2026-11-26 06:14:13.074593+00	826	postgres	pg_catalog	pg_default_acl	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4143	2026-11-26 06:14:13.074593+00	826	postgres	pg_catalog	pg_default_acl	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4145	2026-11-26 06:14:13.074593+00	3466	postgres	pg_catalog	pg_event_trigger	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4146	2026-11-26 06:14:13.074593+00	3466	postgres	pg_catalog	pg_event_trigger	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4147	2026-11-26 06:14:13.074593+00	3079	postgres	pg_catalog	pg_extension	1	1
01m8b7tzs3rgf16nppbekwekfb	1663	5	4148	2026-11-26 06:14:13.074593+00	3079	postgres	pg_catalog	pg_extension	1	1
01m8b7tzs3rgf16nppbekwekfb	1663	5	4150	2026-11-26 06:14:13.074593+00	2328	postgres	pg_catalog	pg_foreign_data_wrapper	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4149	2026-11-26 06:14:13.074593+00	2328	postgres	pg_catalog	pg_foreign_data_wrapper	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4151	2026-11-26 06:14:13.074593+00	1417	postgres	pg_catalog	pg_foreign_server	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4152	2026-11-26 06:14:13.074593+00	1417	postgres	pg_catalog	pg_foreign_server	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4154	2026-11-26 06:14:13.074593+00	3118	postgres	pg_catalog	pg_foreign_table	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4153	2026-11-26 06:14:13.074593+00	3118	postgres	pg_catalog	pg_foreign_table	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4155	2026-11-26 06:14:13.074593+00	3394	postgres	pg_catalog	pg_init_privs	1	213
01m8b7tzs3rgf16nppbekwekfb	1663	5	4156	2026-11-26 06:14:13.074593+00	3394	postgres	pg_catalog	pg_init_privs	1	213
01m8b7tzs3rgf16nppbekwekfb	1663	5	4157	2026-11-26 06:14:13.074593+00	2612	postgres	pg_catalog	pg_language	1	4
01m8b7tzs3rgf16nppbekwekfb	1663	5	4158	2026-11-26 06:14:13.074593+00	2612	postgres	pg_catalog	pg_language	1	4
01m8b7tzs3rgf16nppbekwekfb	1663	5	4160	2026-11-26 06:14:13.074593+00	2600	postgres	pg_catalog	pg_aggregate	1	148
01m8b7tzs3rgf16nppbekwekfb	1663	5	4159	2026-11-26 06:14:13.074593+00	2600	postgres	pg_catalog	pg_aggregate	1	148
01m8b7tzs3rgf16nppbekwekfb	1663	5	4163	2026-11-26 06:14:13.074593+00	2615	postgres	pg_catalog	pg_namespace	1	4
01m8b7tzs3rgf16nppbekwekfb	1663	5	4164	2026-11-26 06:14:13.074593+00	2615	postgres	pg_catalog	pg_namespace	1	4
01m8b7tzs3rgf16nppbekwekfb	1663	5	4165	2026-11-26 06:14:13.074593+00	3350	postgres	pg_catalog	pg_partitioned_table	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4166	2026-11-26 06:14:13.074593+00	3350	postgres	pg_catalog	pg_partitioned_table	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4168	2026-11-26 06:14:13.074593+00	3256	postgres	pg_catalog	pg_policy	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4167	2026-11-26 06:14:13.074593+00	3256	postgres	pg_catalog	pg_policy	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4170	2026-11-26 06:14:13.074593+00	3600	postgres	pg_catalog	pg_ts_dict	1	29
01m8b7tzs3rgf16nppbekwekfb	1663	5	4169	2026-11-26 06:14:13.074593+00	3600	postgres	pg_catalog	pg_ts_dict	1	29
01m8b7tzs3rgf16nppbekwekfb	1663	5	4172	2026-11-26 06:14:13.074593+00	1247	postgres	pg_catalog	pg_type	1	611
01m8b7tzs3rgf16nppbekwekfb	1663	5	4171	2026-11-26 06:14:13.074593+00	1247	postgres	pg_catalog	pg_type	1	611
01m8b7tzs3rgf16nppbekwekfb	1663	5	4174	2026-11-26 06:14:13.074593+00	1418	postgres	pg_catalog	pg_user_mapping	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	4173	2026-11-26 06:14:13.074593+00	1418	postgres	pg_catalog	pg_user_mapping	1	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	4175	2026-11-26 06:14:13.074593+00	1260	postgres	pg_catalog	pg_authid	1	13
01m8b7tzs3rgf16nppbekwekfb	1664	0	4176	2026-11-26 06:14:13.074593+00	1260	postgres	pg_catalog	pg_authid	1	13
01m8b7tzs3rgf16nppbekwekfb	1664	0	4177	2026-11-26 06:14:13.074593+00	1262	postgres	pg_catalog	pg_database	1	2
01m8b7tzs3rgf16nppbekwekfb	1664	0	4178	2026-11-26 06:14:13.074593+00	1262	postgres	pg_catalog	pg_database	1	2
01m8b7tzs3rgf16nppbekwekfb	1664	0	4182	2026-11-26 06:14:13.074593+00	6000	postgres	pg_catalog	pg_replication_origin	1	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	4181	2026-11-26 06:14:13.074593+00	6000	postgres	pg_catalog	pg_replication_origin	1	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	4183	2026-11-26 06:14:13.074593+00	6100	postgres	pg_catalog	pg_subscription	1	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	4184	2026-11-26 06:14:13.074593+00	6100	postgres	pg_catalog	pg_subscription	1	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	4185	2026-11-26 06:14:13.074593+00	1213	postgres	pg_catalog	pg_tablespace	1	2
01m8b7tzs3rgf16nppbekwekfb	1664	0	4186	2026-11-26 06:14:13.074593+00	1213	postgres	pg_catalog	pg_tablespace	1	2
01m8b7tzs3rgf16nppbekwekfb	1663	5	6175	2026-11-26 06:14:13.074593+00	3456	postgres	pg_catalog	pg_collation	1	811
01m8b7tzs3rgf16nppbekwekfb	1663	5	6176	2026-11-26 06:14:13.074593+00	3456	postgres	pg_catalog	pg_collation	1	811
01m8b7tzs3rgf16nppbekwekfb	1663	5	6228	2026-11-26 06:14:13.074593+00	6106	postgres	pg_catalog	pg_publication_rel	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6229	2026-11-26 06:14:13.074593+00	6106	postgres	pg_catalog	pg_publication_rel	1	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	6244	2026-11-26 06:14:13.074593+00	6243	postgres	pg_catalog	pg_parameter_acl	1	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	6245	2026-11-26 06:14:13.074593+00	6243	postgres	pg_catalog	pg_parameter_acl	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	13395	2026-11-26 06:14:13.074593+00	13391	postgres	information_schema	sql_features	1	714
01m8b7tzs3rgf16nppbekwekfb	1663	5	13394	2026-11-26 06:14:13.074593+00	13391	postgres	information_schema	sql_features	1	714
01m8b7tzs3rgf16nppbekwekfb	1663	5	13400	2026-11-26 06:14:13.074593+00	13396	postgres	information_schema	sql_implementation_info	1	12
01m8b7tzs3rgf16nppbekwekfb	1663	5	13399	2026-11-26 06:14:13.074593+00	13396	postgres	information_schema	sql_implementation_info	1	12
01m8b7tzs3rgf16nppbekwekfb	1663	5	13404	2026-11-26 06:14:13.074593+00	13401	postgres	information_schema	sql_parts	1	10
01m8b7tzs3rgf16nppbekwekfb	1663	5	13405	2026-11-26 06:14:13.074593+00	13401	postgres	information_schema	sql_parts	1	10
01m8b7tzs3rgf16nppbekwekfb	1663	5	13410	2026-11-26 06:14:13.074593+00	13406	postgres	information_schema	sql_sizing	1	23
01m8b7tzs3rgf16nppbekwekfb	1663	5	13409	2026-11-26 06:14:13.074593+00	13406	postgres	information_schema	sql_sizing	1	23
01m8b7tzs3rgf16nppbekwekfb	1663	5	16389	2026-11-26 06:14:13.074593+00	16385	postgres	public	booking	1	3000
01m8b7tzs3rgf16nppbekwekfb	1663	5	16388	2026-11-26 06:14:13.074593+00	16385	postgres	public	booking	1	3000
01m8b7tzs3rgf16nppbekwekfb	1663	5	3712	2026-11-26 06:14:13.074593+00	3602	postgres	pg_catalog	pg_ts_config	2	29
01m8b7tzs3rgf16nppbekwekfb	1663	5	3609	2026-11-26 06:14:13.074593+00	3603	postgres	pg_catalog	pg_ts_config_map	2	551
01m8b7tzs3rgf16nppbekwekfb	1663	5	3604	2026-11-26 06:14:13.074593+00	3600	postgres	pg_catalog	pg_ts_dict	2	29
01m8b7tzs3rgf16nppbekwekfb	1663	5	3605	2026-11-26 06:14:13.074593+00	3600	postgres	pg_catalog	pg_ts_dict	2	29
01m8b7tzs3rgf16nppbekwekfb	1663	5	3606	2026-11-26 06:14:13.074593+00	3601	postgres	pg_catalog	pg_ts_parser	2	1
01m8b7tzs3rgf16nppbekwekfb	1663	5	3607	2026-11-26 06:14:13.074593+00	3601	postgres	pg_catalog	pg_ts_parser	2	1
01m8b7tzs3rgf16nppbekwekfb	1663	5	3766	2026-11-26 06:14:13.074593+00	3764	postgres	pg_catalog	pg_ts_template	2	5
01m8b7tzs3rgf16nppbekwekfb	1663	5	3767	2026-11-26 06:14:13.074593+00	3764	postgres	pg_catalog	pg_ts_template	2	5
01m8b7tzs3rgf16nppbekwekfb	1663	5	3080	2026-11-26 06:14:13.074593+00	3079	postgres	pg_catalog	pg_extension	2	1
01m8b7tzs3rgf16nppbekwekfb	1663	5	3081	2026-11-26 06:14:13.074593+00	3079	postgres	pg_catalog	pg_extension	2	1
01m8b7tzs3rgf16nppbekwekfb	1663	5	112	2026-11-26 06:14:13.074593+00	2328	postgres	pg_catalog	pg_foreign_data_wrapper	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	548	2026-11-26 06:14:13.074593+00	2328	postgres	pg_catalog	pg_foreign_data_wrapper	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	113	2026-11-26 06:14:13.074593+00	1417	postgres	pg_catalog	pg_foreign_server	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	549	2026-11-26 06:14:13.074593+00	1417	postgres	pg_catalog	pg_foreign_server	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	174	2026-11-26 06:14:13.074593+00	1418	postgres	pg_catalog	pg_user_mapping	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	175	2026-11-26 06:14:13.074593+00	1418	postgres	pg_catalog	pg_user_mapping	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3119	2026-11-26 06:14:13.074593+00	3118	postgres	pg_catalog	pg_foreign_table	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3257	2026-11-26 06:14:13.074593+00	3256	postgres	pg_catalog	pg_policy	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3258	2026-11-26 06:14:13.074593+00	3256	postgres	pg_catalog	pg_policy	2	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	6001	2026-11-26 06:14:13.074593+00	6000	postgres	pg_catalog	pg_replication_origin	2	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	6002	2026-11-26 06:14:13.074593+00	6000	postgres	pg_catalog	pg_replication_origin	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	827	2026-11-26 06:14:13.074593+00	826	postgres	pg_catalog	pg_default_acl	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	828	2026-11-26 06:14:13.074593+00	826	postgres	pg_catalog	pg_default_acl	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3395	2026-11-26 06:14:13.074593+00	3394	postgres	pg_catalog	pg_init_privs	2	213
01m8b7tzs3rgf16nppbekwekfb	1663	5	3597	2026-11-26 06:14:13.074593+00	3596	postgres	pg_catalog	pg_seclabel	2	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	3593	2026-11-26 06:14:13.074593+00	3592	postgres	pg_catalog	pg_shseclabel	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3164	2026-11-26 06:14:13.074593+00	3456	postgres	pg_catalog	pg_collation	2	811
01m8b7tzs3rgf16nppbekwekfb	1663	5	3085	2026-11-26 06:14:13.074593+00	3456	postgres	pg_catalog	pg_collation	2	811
01m8b7tzs3rgf16nppbekwekfb	1664	0	6246	2026-11-26 06:14:13.074593+00	6243	postgres	pg_catalog	pg_parameter_acl	2	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	6247	2026-11-26 06:14:13.074593+00	6243	postgres	pg_catalog	pg_parameter_acl	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3351	2026-11-26 06:14:13.074593+00	3350	postgres	pg_catalog	pg_partitioned_table	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3542	2026-11-26 06:14:13.074593+00	3541	postgres	pg_catalog	pg_range	2	6
01m8b7tzs3rgf16nppbekwekfb	1663	5	2228	2026-11-26 06:14:13.074593+00	3541	postgres	pg_catalog	pg_range	2	6
01m8b7tzs3rgf16nppbekwekfb	1663	5	3574	2026-11-26 06:14:13.074593+00	3576	postgres	pg_catalog	pg_transform	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3575	2026-11-26 06:14:13.074593+00	3576	postgres	pg_catalog	pg_transform	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	5002	2026-11-26 06:14:13.074593+00	2224	postgres	pg_catalog	pg_sequence	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6110	2026-11-26 06:14:13.074593+00	6104	postgres	pg_catalog	pg_publication	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6111	2026-11-26 06:14:13.074593+00	6104	postgres	pg_catalog	pg_publication	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6238	2026-11-26 06:14:13.074593+00	6237	postgres	pg_catalog	pg_publication_namespace	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6239	2026-11-26 06:14:13.074593+00	6237	postgres	pg_catalog	pg_publication_namespace	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6112	2026-11-26 06:14:13.074593+00	6106	postgres	pg_catalog	pg_publication_rel	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6113	2026-11-26 06:14:13.074593+00	6106	postgres	pg_catalog	pg_publication_rel	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6116	2026-11-26 06:14:13.074593+00	6106	postgres	pg_catalog	pg_publication_rel	2	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	6114	2026-11-26 06:14:13.074593+00	6100	postgres	pg_catalog	pg_subscription	2	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	6115	2026-11-26 06:14:13.074593+00	6100	postgres	pg_catalog	pg_subscription	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6117	2026-11-26 06:14:13.074593+00	6102	postgres	pg_catalog	pg_subscription_rel	2	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	1260	2026-11-26 06:14:13.074593+00	1260	postgres	pg_catalog	pg_authid	0	13
01m8b7tzs3rgf16nppbekwekfb	1663	5	3429	2026-11-26 06:14:13.074593+00	3429	postgres	pg_catalog	pg_statistic_ext_data	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	1418	2026-11-26 06:14:13.074593+00	1418	postgres	pg_catalog	pg_user_mapping	0	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	6100	2026-11-26 06:14:13.074593+00	6100	postgres	pg_catalog	pg_subscription	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	1249	2026-11-26 06:14:13.074593+00	1249	postgres	pg_catalog	pg_attribute	0	3054
01m8b7tzs3rgf16nppbekwekfb	1663	5	1255	2026-11-26 06:14:13.074593+00	1255	postgres	pg_catalog	pg_proc	0	3244
01m8b7tzs3rgf16nppbekwekfb	1663	5	1259	2026-11-26 06:14:13.074593+00	1259	postgres	pg_catalog	pg_class	0	410
01m8b7tzs3rgf16nppbekwekfb	1663	5	2604	2026-11-26 06:14:13.074593+00	2604	postgres	pg_catalog	pg_attrdef	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2606	2026-11-26 06:14:13.074593+00	2606	postgres	pg_catalog	pg_constraint	0	111
01m8b7tzs3rgf16nppbekwekfb	1663	5	2611	2026-11-26 06:14:13.074593+00	2611	postgres	pg_catalog	pg_inherits	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2610	2026-11-26 06:14:13.074593+00	2610	postgres	pg_catalog	pg_index	0	162
01m8b7tzs3rgf16nppbekwekfb	1663	5	2617	2026-11-26 06:14:13.074593+00	2617	postgres	pg_catalog	pg_operator	0	799
01m8b7tzs3rgf16nppbekwekfb	1663	5	2753	2026-11-26 06:14:13.074593+00	2753	postgres	pg_catalog	pg_opfamily	0	146
01m8b7tzs3rgf16nppbekwekfb	1663	5	2616	2026-11-26 06:14:13.074593+00	2616	postgres	pg_catalog	pg_opclass	0	177
01m8b7tzs3rgf16nppbekwekfb	1663	5	2601	2026-11-26 06:14:13.074593+00	2601	postgres	pg_catalog	pg_am	0	7
01m8b7tzs3rgf16nppbekwekfb	1663	5	2602	2026-11-26 06:14:13.074593+00	2602	postgres	pg_catalog	pg_amop	0	945
01m8b7tzs3rgf16nppbekwekfb	1663	5	2603	2026-11-26 06:14:13.074593+00	2603	postgres	pg_catalog	pg_amproc	0	696
01m8b7tzs3rgf16nppbekwekfb	1663	5	2612	2026-11-26 06:14:13.074593+00	2612	postgres	pg_catalog	pg_language	0	4
01m8b7tzs3rgf16nppbekwekfb	1663	5	2995	2026-11-26 06:14:13.074593+00	2995	postgres	pg_catalog	pg_largeobject_metadata	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2600	2026-11-26 06:14:13.074593+00	2600	postgres	pg_catalog	pg_aggregate	0	148
01m8b7tzs3rgf16nppbekwekfb	1663	5	3381	2026-11-26 06:14:13.074593+00	3381	postgres	pg_catalog	pg_statistic_ext	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2618	2026-11-26 06:14:13.074593+00	2618	postgres	pg_catalog	pg_rewrite	0	142
01m8b7tzs3rgf16nppbekwekfb	1663	5	2620	2026-11-26 06:14:13.074593+00	2620	postgres	pg_catalog	pg_trigger	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3466	2026-11-26 06:14:13.074593+00	3466	postgres	pg_catalog	pg_event_trigger	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2609	2026-11-26 06:14:13.074593+00	2609	postgres	pg_catalog	pg_description	0	5136
01m8b7tzs3rgf16nppbekwekfb	1663	5	2605	2026-11-26 06:14:13.074593+00	2605	postgres	pg_catalog	pg_cast	0	229
01m8b7tzs3rgf16nppbekwekfb	1663	5	3501	2026-11-26 06:14:13.074593+00	3501	postgres	pg_catalog	pg_enum	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2615	2026-11-26 06:14:13.074593+00	2615	postgres	pg_catalog	pg_namespace	0	4
01m8b7tzs3rgf16nppbekwekfb	1663	5	2607	2026-11-26 06:14:13.074593+00	2607	postgres	pg_catalog	pg_conversion	0	128
01m8b7tzs3rgf16nppbekwekfb	1663	5	2608	2026-11-26 06:14:13.074593+00	2608	postgres	pg_catalog	pg_depend	0	1831
01m8b7tzs3rgf16nppbekwekfb	1664	0	1262	2026-11-26 06:14:13.074593+00	1262	postgres	pg_catalog	pg_database	0	2
01m8b7tzs3rgf16nppbekwekfb	1664	0	2964	2026-11-26 06:14:13.074593+00	2964	postgres	pg_catalog	pg_db_role_setting	0	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	1213	2026-11-26 06:14:13.074593+00	1213	postgres	pg_catalog	pg_tablespace	0	2
01m8b7tzs3rgf16nppbekwekfb	1664	0	1261	2026-11-26 06:14:13.074593+00	1261	postgres	pg_catalog	pg_auth_members	0	3
01m8b7tzs3rgf16nppbekwekfb	1664	0	1214	2026-11-26 06:14:13.074593+00	1214	postgres	pg_catalog	pg_shdepend	0	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	2396	2026-11-26 06:14:13.074593+00	2396	postgres	pg_catalog	pg_shdescription	0	1
01m8b7tzs3rgf16nppbekwekfb	1663	5	3602	2026-11-26 06:14:13.074593+00	3602	postgres	pg_catalog	pg_ts_config	0	29
01m8b7tzs3rgf16nppbekwekfb	1663	5	3603	2026-11-26 06:14:13.074593+00	3603	postgres	pg_catalog	pg_ts_config_map	0	551
01m8b7tzs3rgf16nppbekwekfb	1663	5	3600	2026-11-26 06:14:13.074593+00	3600	postgres	pg_catalog	pg_ts_dict	0	29
01m8b7tzs3rgf16nppbekwekfb	1663	5	3601	2026-11-26 06:14:13.074593+00	3601	postgres	pg_catalog	pg_ts_parser	0	1
01m8b7tzs3rgf16nppbekwekfb	1663	5	3764	2026-11-26 06:14:13.074593+00	3764	postgres	pg_catalog	pg_ts_template	0	5
01m8b7tzs3rgf16nppbekwekfb	1663	5	3079	2026-11-26 06:14:13.074593+00	3079	postgres	pg_catalog	pg_extension	0	1
01m8b7tzs3rgf16nppbekwekfb	1663	5	2328	2026-11-26 06:14:13.074593+00	2328	postgres	pg_catalog	pg_foreign_data_wrapper	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	1417	2026-11-26 06:14:13.074593+00	1417	postgres	pg_catalog	pg_foreign_server	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3256	2026-11-26 06:14:13.074593+00	3256	postgres	pg_catalog	pg_policy	0	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	6000	2026-11-26 06:14:13.074593+00	6000	postgres	pg_catalog	pg_replication_origin	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	826	2026-11-26 06:14:13.074593+00	826	postgres	pg_catalog	pg_default_acl	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3394	2026-11-26 06:14:13.074593+00	3394	postgres	pg_catalog	pg_init_privs	0	213
01m8b7tzs3rgf16nppbekwekfb	1663	5	3596	2026-11-26 06:14:13.074593+00	3596	postgres	pg_catalog	pg_seclabel	0	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	3592	2026-11-26 06:14:13.074593+00	3592	postgres	pg_catalog	pg_shseclabel	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3456	2026-11-26 06:14:13.074593+00	3456	postgres	pg_catalog	pg_collation	0	811
01m8b7tzs3rgf16nppbekwekfb	1664	0	6243	2026-11-26 06:14:13.074593+00	6243	postgres	pg_catalog	pg_parameter_acl	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3350	2026-11-26 06:14:13.074593+00	3350	postgres	pg_catalog	pg_partitioned_table	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3541	2026-11-26 06:14:13.074593+00	3541	postgres	pg_catalog	pg_range	0	6
01m8b7tzs3rgf16nppbekwekfb	1663	5	3576	2026-11-26 06:14:13.074593+00	3576	postgres	pg_catalog	pg_transform	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2224	2026-11-26 06:14:13.074593+00	2224	postgres	pg_catalog	pg_sequence	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6104	2026-11-26 06:14:13.074593+00	6104	postgres	pg_catalog	pg_publication	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6237	2026-11-26 06:14:13.074593+00	6237	postgres	pg_catalog	pg_publication_namespace	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6106	2026-11-26 06:14:13.074593+00	6106	postgres	pg_catalog	pg_publication_rel	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	6102	2026-11-26 06:14:13.074593+00	6102	postgres	pg_catalog	pg_subscription_rel	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2613	2026-11-26 06:14:13.074593+00	2613	postgres	pg_catalog	pg_largeobject	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	13391	2026-11-26 06:14:13.074593+00	13391	postgres	information_schema	sql_features	0	714
01m8b7tzs3rgf16nppbekwekfb	1663	5	13396	2026-11-26 06:14:13.074593+00	13396	postgres	information_schema	sql_implementation_info	0	12
01m8b7tzs3rgf16nppbekwekfb	1663	5	13401	2026-11-26 06:14:13.074593+00	13401	postgres	information_schema	sql_parts	0	10
01m8b7tzs3rgf16nppbekwekfb	1663	5	13406	2026-11-26 06:14:13.074593+00	13406	postgres	information_schema	sql_sizing	0	23
01m8b7tzs3rgf16nppbekwekfb	1663	5	16385	2026-11-26 06:14:13.074593+00	16385	postgres	public	booking	0	3000
01m8b7tzs3rgf16nppbekwekfb	1663	5	16390	2026-11-26 06:14:13.074593+00	16385	postgres	public	booking	2	3000
01m8b7tzs3rgf16nppbekwekfb	1663	5	2619	2026-11-26 06:14:13.074593+00	2619	postgres	pg_catalog	pg_statistic	0	404
01m8b7tzs3rgf16nppbekwekfb	1663	5	1247	2026-11-26 06:14:13.074593+00	1247	postgres	pg_catalog	pg_type	0	611
01m8b7tzs3rgf16nppbekwekfb	1663	5	3118	2026-11-26 06:14:13.074593+00	3118	postgres	pg_catalog	pg_foreign_table	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2690	2026-11-26 06:14:13.074593+00	1255	postgres	pg_catalog	pg_proc	2	3244
01m8b7tzs3rgf16nppbekwekfb	1663	5	2691	2026-11-26 06:14:13.074593+00	1255	postgres	pg_catalog	pg_proc	2	3244
01m8b7tzs3rgf16nppbekwekfb	1663	5	2703	2026-11-26 06:14:13.074593+00	1247	postgres	pg_catalog	pg_type	2	611
01m8b7tzs3rgf16nppbekwekfb	1663	5	2704	2026-11-26 06:14:13.074593+00	1247	postgres	pg_catalog	pg_type	2	611
01m8b7tzs3rgf16nppbekwekfb	1663	5	2658	2026-11-26 06:14:13.074593+00	1249	postgres	pg_catalog	pg_attribute	2	3054
01m8b7tzs3rgf16nppbekwekfb	1663	5	2659	2026-11-26 06:14:13.074593+00	1249	postgres	pg_catalog	pg_attribute	2	3054
01m8b7tzs3rgf16nppbekwekfb	1663	5	2662	2026-11-26 06:14:13.074593+00	1259	postgres	pg_catalog	pg_class	2	410
01m8b7tzs3rgf16nppbekwekfb	1663	5	2663	2026-11-26 06:14:13.074593+00	1259	postgres	pg_catalog	pg_class	2	410
01m8b7tzs3rgf16nppbekwekfb	1663	5	3455	2026-11-26 06:14:13.074593+00	1259	postgres	pg_catalog	pg_class	2	410
01m8b7tzs3rgf16nppbekwekfb	1663	5	2656	2026-11-26 06:14:13.074593+00	2604	postgres	pg_catalog	pg_attrdef	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2657	2026-11-26 06:14:13.074593+00	2604	postgres	pg_catalog	pg_attrdef	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2664	2026-11-26 06:14:13.074593+00	2606	postgres	pg_catalog	pg_constraint	2	111
01m8b7tzs3rgf16nppbekwekfb	1663	5	2665	2026-11-26 06:14:13.074593+00	2606	postgres	pg_catalog	pg_constraint	2	111
01m8b7tzs3rgf16nppbekwekfb	1663	5	2666	2026-11-26 06:14:13.074593+00	2606	postgres	pg_catalog	pg_constraint	2	111
01m8b7tzs3rgf16nppbekwekfb	1663	5	2667	2026-11-26 06:14:13.074593+00	2606	postgres	pg_catalog	pg_constraint	2	111
01m8b7tzs3rgf16nppbekwekfb	1663	5	2579	2026-11-26 06:14:13.074593+00	2606	postgres	pg_catalog	pg_constraint	2	111
01m8b7tzs3rgf16nppbekwekfb	1663	5	2680	2026-11-26 06:14:13.074593+00	2611	postgres	pg_catalog	pg_inherits	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2187	2026-11-26 06:14:13.074593+00	2611	postgres	pg_catalog	pg_inherits	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2678	2026-11-26 06:14:13.074593+00	2610	postgres	pg_catalog	pg_index	2	162
01m8b7tzs3rgf16nppbekwekfb	1663	5	2679	2026-11-26 06:14:13.074593+00	2610	postgres	pg_catalog	pg_index	2	162
01m8b7tzs3rgf16nppbekwekfb	1663	5	2688	2026-11-26 06:14:13.074593+00	2617	postgres	pg_catalog	pg_operator	2	799
01m8b7tzs3rgf16nppbekwekfb	1663	5	2689	2026-11-26 06:14:13.074593+00	2617	postgres	pg_catalog	pg_operator	2	799
01m8b7tzs3rgf16nppbekwekfb	1663	5	2754	2026-11-26 06:14:13.074593+00	2753	postgres	pg_catalog	pg_opfamily	2	146
01m8b7tzs3rgf16nppbekwekfb	1663	5	2755	2026-11-26 06:14:13.074593+00	2753	postgres	pg_catalog	pg_opfamily	2	146
01m8b7tzs3rgf16nppbekwekfb	1663	5	2686	2026-11-26 06:14:13.074593+00	2616	postgres	pg_catalog	pg_opclass	2	177
01m8b7tzs3rgf16nppbekwekfb	1663	5	2687	2026-11-26 06:14:13.074593+00	2616	postgres	pg_catalog	pg_opclass	2	177
01m8b7tzs3rgf16nppbekwekfb	1663	5	2651	2026-11-26 06:14:13.074593+00	2601	postgres	pg_catalog	pg_am	2	7
01m8b7tzs3rgf16nppbekwekfb	1663	5	2652	2026-11-26 06:14:13.074593+00	2601	postgres	pg_catalog	pg_am	2	7
01m8b7tzs3rgf16nppbekwekfb	1663	5	2653	2026-11-26 06:14:13.074593+00	2602	postgres	pg_catalog	pg_amop	2	945
01m8b7tzs3rgf16nppbekwekfb	1663	5	2654	2026-11-26 06:14:13.074593+00	2602	postgres	pg_catalog	pg_amop	2	945
01m8b7tzs3rgf16nppbekwekfb	1663	5	2756	2026-11-26 06:14:13.074593+00	2602	postgres	pg_catalog	pg_amop	2	945
01m8b7tzs3rgf16nppbekwekfb	1663	5	2655	2026-11-26 06:14:13.074593+00	2603	postgres	pg_catalog	pg_amproc	2	696
01m8b7tzs3rgf16nppbekwekfb	1663	5	2757	2026-11-26 06:14:13.074593+00	2603	postgres	pg_catalog	pg_amproc	2	696
01m8b7tzs3rgf16nppbekwekfb	1663	5	2681	2026-11-26 06:14:13.074593+00	2612	postgres	pg_catalog	pg_language	2	4
01m8b7tzs3rgf16nppbekwekfb	1663	5	2682	2026-11-26 06:14:13.074593+00	2612	postgres	pg_catalog	pg_language	2	4
01m8b7tzs3rgf16nppbekwekfb	1663	5	2996	2026-11-26 06:14:13.074593+00	2995	postgres	pg_catalog	pg_largeobject_metadata	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2683	2026-11-26 06:14:13.074593+00	2613	postgres	pg_catalog	pg_largeobject	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2650	2026-11-26 06:14:13.074593+00	2600	postgres	pg_catalog	pg_aggregate	2	148
01m8b7tzs3rgf16nppbekwekfb	1663	5	2696	2026-11-26 06:14:13.074593+00	2619	postgres	pg_catalog	pg_statistic	2	404
01m8b7tzs3rgf16nppbekwekfb	1663	5	3380	2026-11-26 06:14:13.074593+00	3381	postgres	pg_catalog	pg_statistic_ext	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3997	2026-11-26 06:14:13.074593+00	3381	postgres	pg_catalog	pg_statistic_ext	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3379	2026-11-26 06:14:13.074593+00	3381	postgres	pg_catalog	pg_statistic_ext	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3433	2026-11-26 06:14:13.074593+00	3429	postgres	pg_catalog	pg_statistic_ext_data	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2692	2026-11-26 06:14:13.074593+00	2618	postgres	pg_catalog	pg_rewrite	2	142
01m8b7tzs3rgf16nppbekwekfb	1663	5	2693	2026-11-26 06:14:13.074593+00	2618	postgres	pg_catalog	pg_rewrite	2	142
01m8b7tzs3rgf16nppbekwekfb	1663	5	2699	2026-11-26 06:14:13.074593+00	2620	postgres	pg_catalog	pg_trigger	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2701	2026-11-26 06:14:13.074593+00	2620	postgres	pg_catalog	pg_trigger	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2702	2026-11-26 06:14:13.074593+00	2620	postgres	pg_catalog	pg_trigger	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3467	2026-11-26 06:14:13.074593+00	3466	postgres	pg_catalog	pg_event_trigger	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3468	2026-11-26 06:14:13.074593+00	3466	postgres	pg_catalog	pg_event_trigger	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2675	2026-11-26 06:14:13.074593+00	2609	postgres	pg_catalog	pg_description	2	5136
01m8b7tzs3rgf16nppbekwekfb	1663	5	2660	2026-11-26 06:14:13.074593+00	2605	postgres	pg_catalog	pg_cast	2	229
01m8b7tzs3rgf16nppbekwekfb	1663	5	2661	2026-11-26 06:14:13.074593+00	2605	postgres	pg_catalog	pg_cast	2	229
01m8b7tzs3rgf16nppbekwekfb	1663	5	3502	2026-11-26 06:14:13.074593+00	3501	postgres	pg_catalog	pg_enum	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3503	2026-11-26 06:14:13.074593+00	3501	postgres	pg_catalog	pg_enum	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	3534	2026-11-26 06:14:13.074593+00	3501	postgres	pg_catalog	pg_enum	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	5	2684	2026-11-26 06:14:13.074593+00	2615	postgres	pg_catalog	pg_namespace	2	4
01m8b7tzs3rgf16nppbekwekfb	1663	5	2685	2026-11-26 06:14:13.074593+00	2615	postgres	pg_catalog	pg_namespace	2	4
01m8b7tzs3rgf16nppbekwekfb	1663	5	2668	2026-11-26 06:14:13.074593+00	2607	postgres	pg_catalog	pg_conversion	2	128
01m8b7tzs3rgf16nppbekwekfb	1663	5	2669	2026-11-26 06:14:13.074593+00	2607	postgres	pg_catalog	pg_conversion	2	128
01m8b7tzs3rgf16nppbekwekfb	1663	5	2670	2026-11-26 06:14:13.074593+00	2607	postgres	pg_catalog	pg_conversion	2	128
01m8b7tzs3rgf16nppbekwekfb	1663	5	2673	2026-11-26 06:14:13.074593+00	2608	postgres	pg_catalog	pg_depend	2	1831
01m8b7tzs3rgf16nppbekwekfb	1663	5	2674	2026-11-26 06:14:13.074593+00	2608	postgres	pg_catalog	pg_depend	2	1831
01m8b7tzs3rgf16nppbekwekfb	1664	0	2671	2026-11-26 06:14:13.074593+00	1262	postgres	pg_catalog	pg_database	2	2
01m8b7tzs3rgf16nppbekwekfb	1664	0	2672	2026-11-26 06:14:13.074593+00	1262	postgres	pg_catalog	pg_database	2	2
01m8b7tzs3rgf16nppbekwekfb	1664	0	2965	2026-11-26 06:14:13.074593+00	2964	postgres	pg_catalog	pg_db_role_setting	2	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	2697	2026-11-26 06:14:13.074593+00	1213	postgres	pg_catalog	pg_tablespace	2	2
01m8b7tzs3rgf16nppbekwekfb	1664	0	2698	2026-11-26 06:14:13.074593+00	1213	postgres	pg_catalog	pg_tablespace	2	2
01m8b7tzs3rgf16nppbekwekfb	1664	0	2676	2026-11-26 06:14:13.074593+00	1260	postgres	pg_catalog	pg_authid	2	13
01m8b7tzs3rgf16nppbekwekfb	1664	0	2677	2026-11-26 06:14:13.074593+00	1260	postgres	pg_catalog	pg_authid	2	13
01m8b7tzs3rgf16nppbekwekfb	1664	0	2694	2026-11-26 06:14:13.074593+00	1261	postgres	pg_catalog	pg_auth_members	2	3
01m8b7tzs3rgf16nppbekwekfb	1664	0	2695	2026-11-26 06:14:13.074593+00	1261	postgres	pg_catalog	pg_auth_members	2	3
01m8b7tzs3rgf16nppbekwekfb	1664	0	1232	2026-11-26 06:14:13.074593+00	1214	postgres	pg_catalog	pg_shdepend	2	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	1233	2026-11-26 06:14:13.074593+00	1214	postgres	pg_catalog	pg_shdepend	2	0
01m8b7tzs3rgf16nppbekwekfb	1664	0	2397	2026-11-26 06:14:13.074593+00	2396	postgres	pg_catalog	pg_shdescription	2	1
01m8b7tzs3rgf16nppbekwekfb	1663	5	3608	2026-11-26 06:14:13.074593+00	3602	postgres	pg_catalog	pg_ts_config	2	29
01m8b7tzs3rgf16nppbekwekfb	1663	1	2337	2026-11-26 06:14:13.074593+00	2620	template1	pg_catalog	pg_trigger	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2336	2026-11-26 06:14:13.074593+00	2620	template1	pg_catalog	pg_trigger	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2830	2026-11-26 06:14:13.074593+00	2604	template1	pg_catalog	pg_attrdef	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2831	2026-11-26 06:14:13.074593+00	2604	template1	pg_catalog	pg_attrdef	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2833	2026-11-26 06:14:13.074593+00	2606	template1	pg_catalog	pg_constraint	1	111
01m8b7tzs3rgf16nppbekwekfb	1663	1	2832	2026-11-26 06:14:13.074593+00	2606	template1	pg_catalog	pg_constraint	1	111
01m8b7tzs3rgf16nppbekwekfb	1663	1	2835	2026-11-26 06:14:13.074593+00	2609	template1	pg_catalog	pg_description	1	5136
01m8b7tzs3rgf16nppbekwekfb	1663	1	2834	2026-11-26 06:14:13.074593+00	2609	template1	pg_catalog	pg_description	1	5136
01m8b7tzs3rgf16nppbekwekfb	1663	1	2837	2026-11-26 06:14:13.074593+00	1255	template1	pg_catalog	pg_proc	1	3244
01m8b7tzs3rgf16nppbekwekfb	1663	1	2836	2026-11-26 06:14:13.074593+00	1255	template1	pg_catalog	pg_proc	1	3244
01m8b7tzs3rgf16nppbekwekfb	1663	1	2838	2026-11-26 06:14:13.074593+00	2618	template1	pg_catalog	pg_rewrite	1	142
01m8b7tzs3rgf16nppbekwekfb	1663	1	2839	2026-11-26 06:14:13.074593+00	2618	template1	pg_catalog	pg_rewrite	1	142
01m8b7tzs3rgf16nppbekwekfb	1663	1	2841	2026-11-26 06:14:13.074593+00	2619	template1	pg_catalog	pg_statistic	1	404
01m8b7tzs3rgf16nppbekwekfb	1663	1	2840	2026-11-26 06:14:13.074593+00	2619	template1	pg_catalog	pg_statistic	1	404
01m8b7tzs3rgf16nppbekwekfb	1663	1	3431	2026-11-26 06:14:13.074593+00	3429	template1	pg_catalog	pg_statistic_ext_data	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3430	2026-11-26 06:14:13.074593+00	3429	template1	pg_catalog	pg_statistic_ext_data	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3439	2026-11-26 06:14:13.074593+00	3381	template1	pg_catalog	pg_statistic_ext	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3440	2026-11-26 06:14:13.074593+00	3381	template1	pg_catalog	pg_statistic_ext	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3598	2026-11-26 06:14:13.074593+00	3596	template1	pg_catalog	pg_seclabel	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3599	2026-11-26 06:14:13.074593+00	3596	template1	pg_catalog	pg_seclabel	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4144	2026-11-26 06:14:13.074593+00	826	template1	pg_catalog	pg_default_acl	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4143	2026-11-26 06:14:13.074593+00	826	template1	pg_catalog	pg_default_acl	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4145	2026-11-26 06:14:13.074593+00	3466	template1	pg_catalog	pg_event_trigger	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4146	2026-11-26 06:14:13.074593+00	3466	template1	pg_catalog	pg_event_trigger	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4148	2026-11-26 06:14:13.074593+00	3079	template1	pg_catalog	pg_extension	1	1
01m8b7tzs3rgf16nppbekwekfb	1663	1	4147	2026-11-26 06:14:13.074593+00	3079	template1	pg_catalog	pg_extension	1	1
01m8b7tzs3rgf16nppbekwekfb	1663	1	4149	2026-11-26 06:14:13.074593+00	2328	template1	pg_catalog	pg_foreign_data_wrapper	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4150	2026-11-26 06:14:13.074593+00	2328	template1	pg_catalog	pg_foreign_data_wrapper	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4151	2026-11-26 06:14:13.074593+00	1417	template1	pg_catalog	pg_foreign_server	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4152	2026-11-26 06:14:13.074593+00	1417	template1	pg_catalog	pg_foreign_server	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4153	2026-11-26 06:14:13.074593+00	3118	template1	pg_catalog	pg_foreign_table	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4154	2026-11-26 06:14:13.074593+00	3118	template1	pg_catalog	pg_foreign_table	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4155	2026-11-26 06:14:13.074593+00	3394	template1	pg_catalog	pg_init_privs	1	213
01m8b7tzs3rgf16nppbekwekfb	1663	1	4156	2026-11-26 06:14:13.074593+00	3394	template1	pg_catalog	pg_init_privs	1	213
01m8b7tzs3rgf16nppbekwekfb	1663	1	4158	2026-11-26 06:14:13.074593+00	2612	template1	pg_catalog	pg_language	1	4
01m8b7tzs3rgf16nppbekwekfb	1663	1	4157	2026-11-26 06:14:13.074593+00	2612	template1	pg_catalog	pg_language	1	4
01m8b7tzs3rgf16nppbekwekfb	1663	1	4160	2026-11-26 06:14:13.074593+00	2600	template1	pg_catalog	pg_aggregate	1	148
01m8b7tzs3rgf16nppbekwekfb	1663	1	4159	2026-11-26 06:14:13.074593+00	2600	template1	pg_catalog	pg_aggregate	1	148
01m8b7tzs3rgf16nppbekwekfb	1663	1	4164	2026-11-26 06:14:13.074593+00	2615	template1	pg_catalog	pg_namespace	1	4
01m8b7tzs3rgf16nppbekwekfb	1663	1	4163	2026-11-26 06:14:13.074593+00	2615	template1	pg_catalog	pg_namespace	1	4
01m8b7tzs3rgf16nppbekwekfb	1663	1	4165	2026-11-26 06:14:13.074593+00	3350	template1	pg_catalog	pg_partitioned_table	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4166	2026-11-26 06:14:13.074593+00	3350	template1	pg_catalog	pg_partitioned_table	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4167	2026-11-26 06:14:13.074593+00	3256	template1	pg_catalog	pg_policy	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4168	2026-11-26 06:14:13.074593+00	3256	template1	pg_catalog	pg_policy	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4170	2026-11-26 06:14:13.074593+00	3600	template1	pg_catalog	pg_ts_dict	1	29
01m8b7tzs3rgf16nppbekwekfb	1663	1	4169	2026-11-26 06:14:13.074593+00	3600	template1	pg_catalog	pg_ts_dict	1	29
01m8b7tzs3rgf16nppbekwekfb	1663	1	4171	2026-11-26 06:14:13.074593+00	1247	template1	pg_catalog	pg_type	1	611
01m8b7tzs3rgf16nppbekwekfb	1663	1	4172	2026-11-26 06:14:13.074593+00	1247	template1	pg_catalog	pg_type	1	611
01m8b7tzs3rgf16nppbekwekfb	1663	1	4173	2026-11-26 06:14:13.074593+00	1418	template1	pg_catalog	pg_user_mapping	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	4174	2026-11-26 06:14:13.074593+00	1418	template1	pg_catalog	pg_user_mapping	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6176	2026-11-26 06:14:13.074593+00	3456	template1	pg_catalog	pg_collation	1	811
01m8b7tzs3rgf16nppbekwekfb	1663	1	6175	2026-11-26 06:14:13.074593+00	3456	template1	pg_catalog	pg_collation	1	811
01m8b7tzs3rgf16nppbekwekfb	1663	1	6229	2026-11-26 06:14:13.074593+00	6106	template1	pg_catalog	pg_publication_rel	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6228	2026-11-26 06:14:13.074593+00	6106	template1	pg_catalog	pg_publication_rel	1	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	13395	2026-11-26 06:14:13.074593+00	13391	template1	information_schema	sql_features	1	714
01m8b7tzs3rgf16nppbekwekfb	1663	1	13394	2026-11-26 06:14:13.074593+00	13391	template1	information_schema	sql_features	1	714
01m8b7tzs3rgf16nppbekwekfb	1663	1	13399	2026-11-26 06:14:13.074593+00	13396	template1	information_schema	sql_implementation_info	1	12
01m8b7tzs3rgf16nppbekwekfb	1663	1	13400	2026-11-26 06:14:13.074593+00	13396	template1	information_schema	sql_implementation_info	1	12
01m8b7tzs3rgf16nppbekwekfb	1663	1	13404	2026-11-26 06:14:13.074593+00	13401	template1	information_schema	sql_parts	1	10
01m8b7tzs3rgf16nppbekwekfb	1663	1	13405	2026-11-26 06:14:13.074593+00	13401	template1	information_schema	sql_parts	1	10
01m8b7tzs3rgf16nppbekwekfb	1663	1	13409	2026-11-26 06:14:13.074593+00	13406	template1	information_schema	sql_sizing	1	23
01m8b7tzs3rgf16nppbekwekfb	1663	1	13410	2026-11-26 06:14:13.074593+00	13406	template1	information_schema	sql_sizing	1	23
01m8b7tzs3rgf16nppbekwekfb	1663	1	3609	2026-11-26 06:14:13.074593+00	3603	template1	pg_catalog	pg_ts_config_map	2	551
01m8b7tzs3rgf16nppbekwekfb	1663	1	3604	2026-11-26 06:14:13.074593+00	3600	template1	pg_catalog	pg_ts_dict	2	29
01m8b7tzs3rgf16nppbekwekfb	1663	1	3605	2026-11-26 06:14:13.074593+00	3600	template1	pg_catalog	pg_ts_dict	2	29
01m8b7tzs3rgf16nppbekwekfb	1663	1	3606	2026-11-26 06:14:13.074593+00	3601	template1	pg_catalog	pg_ts_parser	2	1
01m8b7tzs3rgf16nppbekwekfb	1663	1	3607	2026-11-26 06:14:13.074593+00	3601	template1	pg_catalog	pg_ts_parser	2	1
01m8b7tzs3rgf16nppbekwekfb	1663	1	3766	2026-11-26 06:14:13.074593+00	3764	template1	pg_catalog	pg_ts_template	2	5
01m8b7tzs3rgf16nppbekwekfb	1663	1	3767	2026-11-26 06:14:13.074593+00	3764	template1	pg_catalog	pg_ts_template	2	5
01m8b7tzs3rgf16nppbekwekfb	1663	1	3080	2026-11-26 06:14:13.074593+00	3079	template1	pg_catalog	pg_extension	2	1
01m8b7tzs3rgf16nppbekwekfb	1663	1	3081	2026-11-26 06:14:13.074593+00	3079	template1	pg_catalog	pg_extension	2	1
01m8b7tzs3rgf16nppbekwekfb	1663	1	112	2026-11-26 06:14:13.074593+00	2328	template1	pg_catalog	pg_foreign_data_wrapper	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	548	2026-11-26 06:14:13.074593+00	2328	template1	pg_catalog	pg_foreign_data_wrapper	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	113	2026-11-26 06:14:13.074593+00	1417	template1	pg_catalog	pg_foreign_server	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	549	2026-11-26 06:14:13.074593+00	1417	template1	pg_catalog	pg_foreign_server	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	174	2026-11-26 06:14:13.074593+00	1418	template1	pg_catalog	pg_user_mapping	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	175	2026-11-26 06:14:13.074593+00	1418	template1	pg_catalog	pg_user_mapping	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3119	2026-11-26 06:14:13.074593+00	3118	template1	pg_catalog	pg_foreign_table	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3257	2026-11-26 06:14:13.074593+00	3256	template1	pg_catalog	pg_policy	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3258	2026-11-26 06:14:13.074593+00	3256	template1	pg_catalog	pg_policy	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	827	2026-11-26 06:14:13.074593+00	826	template1	pg_catalog	pg_default_acl	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	828	2026-11-26 06:14:13.074593+00	826	template1	pg_catalog	pg_default_acl	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3395	2026-11-26 06:14:13.074593+00	3394	template1	pg_catalog	pg_init_privs	2	213
01m8b7tzs3rgf16nppbekwekfb	1663	1	3597	2026-11-26 06:14:13.074593+00	3596	template1	pg_catalog	pg_seclabel	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3164	2026-11-26 06:14:13.074593+00	3456	template1	pg_catalog	pg_collation	2	811
01m8b7tzs3rgf16nppbekwekfb	1663	1	3085	2026-11-26 06:14:13.074593+00	3456	template1	pg_catalog	pg_collation	2	811
01m8b7tzs3rgf16nppbekwekfb	1663	1	3351	2026-11-26 06:14:13.074593+00	3350	template1	pg_catalog	pg_partitioned_table	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3542	2026-11-26 06:14:13.074593+00	3541	template1	pg_catalog	pg_range	2	6
01m8b7tzs3rgf16nppbekwekfb	1663	1	2228	2026-11-26 06:14:13.074593+00	3541	template1	pg_catalog	pg_range	2	6
01m8b7tzs3rgf16nppbekwekfb	1663	1	3574	2026-11-26 06:14:13.074593+00	3576	template1	pg_catalog	pg_transform	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3575	2026-11-26 06:14:13.074593+00	3576	template1	pg_catalog	pg_transform	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	5002	2026-11-26 06:14:13.074593+00	2224	template1	pg_catalog	pg_sequence	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6110	2026-11-26 06:14:13.074593+00	6104	template1	pg_catalog	pg_publication	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6111	2026-11-26 06:14:13.074593+00	6104	template1	pg_catalog	pg_publication	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6238	2026-11-26 06:14:13.074593+00	6237	template1	pg_catalog	pg_publication_namespace	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6239	2026-11-26 06:14:13.074593+00	6237	template1	pg_catalog	pg_publication_namespace	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6112	2026-11-26 06:14:13.074593+00	6106	template1	pg_catalog	pg_publication_rel	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6113	2026-11-26 06:14:13.074593+00	6106	template1	pg_catalog	pg_publication_rel	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6116	2026-11-26 06:14:13.074593+00	6106	template1	pg_catalog	pg_publication_rel	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6117	2026-11-26 06:14:13.074593+00	6102	template1	pg_catalog	pg_subscription_rel	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3429	2026-11-26 06:14:13.074593+00	3429	template1	pg_catalog	pg_statistic_ext_data	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	1418	2026-11-26 06:14:13.074593+00	1418	template1	pg_catalog	pg_user_mapping	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	1249	2026-11-26 06:14:13.074593+00	1249	template1	pg_catalog	pg_attribute	0	3054
01m8b7tzs3rgf16nppbekwekfb	1663	1	1255	2026-11-26 06:14:13.074593+00	1255	template1	pg_catalog	pg_proc	0	3244
01m8b7tzs3rgf16nppbekwekfb	1663	1	1259	2026-11-26 06:14:13.074593+00	1259	template1	pg_catalog	pg_class	0	410
01m8b7tzs3rgf16nppbekwekfb	1663	1	2604	2026-11-26 06:14:13.074593+00	2604	template1	pg_catalog	pg_attrdef	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2606	2026-11-26 06:14:13.074593+00	2606	template1	pg_catalog	pg_constraint	0	111
01m8b7tzs3rgf16nppbekwekfb	1663	1	2611	2026-11-26 06:14:13.074593+00	2611	template1	pg_catalog	pg_inherits	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2610	2026-11-26 06:14:13.074593+00	2610	template1	pg_catalog	pg_index	0	162
01m8b7tzs3rgf16nppbekwekfb	1663	1	2617	2026-11-26 06:14:13.074593+00	2617	template1	pg_catalog	pg_operator	0	799
01m8b7tzs3rgf16nppbekwekfb	1663	1	2753	2026-11-26 06:14:13.074593+00	2753	template1	pg_catalog	pg_opfamily	0	146
01m8b7tzs3rgf16nppbekwekfb	1663	1	2616	2026-11-26 06:14:13.074593+00	2616	template1	pg_catalog	pg_opclass	0	177
01m8b7tzs3rgf16nppbekwekfb	1663	1	2601	2026-11-26 06:14:13.074593+00	2601	template1	pg_catalog	pg_am	0	7
01m8b7tzs3rgf16nppbekwekfb	1663	1	2602	2026-11-26 06:14:13.074593+00	2602	template1	pg_catalog	pg_amop	0	945
01m8b7tzs3rgf16nppbekwekfb	1663	1	2603	2026-11-26 06:14:13.074593+00	2603	template1	pg_catalog	pg_amproc	0	696
01m8b7tzs3rgf16nppbekwekfb	1663	1	2612	2026-11-26 06:14:13.074593+00	2612	template1	pg_catalog	pg_language	0	4
01m8b7tzs3rgf16nppbekwekfb	1663	1	2995	2026-11-26 06:14:13.074593+00	2995	template1	pg_catalog	pg_largeobject_metadata	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2600	2026-11-26 06:14:13.074593+00	2600	template1	pg_catalog	pg_aggregate	0	148
01m8b7tzs3rgf16nppbekwekfb	1663	1	3381	2026-11-26 06:14:13.074593+00	3381	template1	pg_catalog	pg_statistic_ext	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2618	2026-11-26 06:14:13.074593+00	2618	template1	pg_catalog	pg_rewrite	0	142
01m8b7tzs3rgf16nppbekwekfb	1663	1	2620	2026-11-26 06:14:13.074593+00	2620	template1	pg_catalog	pg_trigger	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3466	2026-11-26 06:14:13.074593+00	3466	template1	pg_catalog	pg_event_trigger	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2609	2026-11-26 06:14:13.074593+00	2609	template1	pg_catalog	pg_description	0	5136
01m8b7tzs3rgf16nppbekwekfb	1663	1	2605	2026-11-26 06:14:13.074593+00	2605	template1	pg_catalog	pg_cast	0	229
01m8b7tzs3rgf16nppbekwekfb	1663	1	3501	2026-11-26 06:14:13.074593+00	3501	template1	pg_catalog	pg_enum	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2615	2026-11-26 06:14:13.074593+00	2615	template1	pg_catalog	pg_namespace	0	4
01m8b7tzs3rgf16nppbekwekfb	1663	1	2607	2026-11-26 06:14:13.074593+00	2607	template1	pg_catalog	pg_conversion	0	128
01m8b7tzs3rgf16nppbekwekfb	1663	1	2608	2026-11-26 06:14:13.074593+00	2608	template1	pg_catalog	pg_depend	0	1831
01m8b7tzs3rgf16nppbekwekfb	1663	1	3602	2026-11-26 06:14:13.074593+00	3602	template1	pg_catalog	pg_ts_config	0	29
01m8b7tzs3rgf16nppbekwekfb	1663	1	3603	2026-11-26 06:14:13.074593+00	3603	template1	pg_catalog	pg_ts_config_map	0	551
01m8b7tzs3rgf16nppbekwekfb	1663	1	3600	2026-11-26 06:14:13.074593+00	3600	template1	pg_catalog	pg_ts_dict	0	29
01m8b7tzs3rgf16nppbekwekfb	1663	1	3601	2026-11-26 06:14:13.074593+00	3601	template1	pg_catalog	pg_ts_parser	0	1
01m8b7tzs3rgf16nppbekwekfb	1663	1	3764	2026-11-26 06:14:13.074593+00	3764	template1	pg_catalog	pg_ts_template	0	5
01m8b7tzs3rgf16nppbekwekfb	1663	1	3079	2026-11-26 06:14:13.074593+00	3079	template1	pg_catalog	pg_extension	0	1
01m8b7tzs3rgf16nppbekwekfb	1663	1	2328	2026-11-26 06:14:13.074593+00	2328	template1	pg_catalog	pg_foreign_data_wrapper	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	1417	2026-11-26 06:14:13.074593+00	1417	template1	pg_catalog	pg_foreign_server	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3256	2026-11-26 06:14:13.074593+00	3256	template1	pg_catalog	pg_policy	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	826	2026-11-26 06:14:13.074593+00	826	template1	pg_catalog	pg_default_acl	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3394	2026-11-26 06:14:13.074593+00	3394	template1	pg_catalog	pg_init_privs	0	213
01m8b7tzs3rgf16nppbekwekfb	1663	1	3596	2026-11-26 06:14:13.074593+00	3596	template1	pg_catalog	pg_seclabel	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3456	2026-11-26 06:14:13.074593+00	3456	template1	pg_catalog	pg_collation	0	811
01m8b7tzs3rgf16nppbekwekfb	1663	1	3350	2026-11-26 06:14:13.074593+00	3350	template1	pg_catalog	pg_partitioned_table	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3541	2026-11-26 06:14:13.074593+00	3541	template1	pg_catalog	pg_range	0	6
01m8b7tzs3rgf16nppbekwekfb	1663	1	3576	2026-11-26 06:14:13.074593+00	3576	template1	pg_catalog	pg_transform	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2224	2026-11-26 06:14:13.074593+00	2224	template1	pg_catalog	pg_sequence	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6104	2026-11-26 06:14:13.074593+00	6104	template1	pg_catalog	pg_publication	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6237	2026-11-26 06:14:13.074593+00	6237	template1	pg_catalog	pg_publication_namespace	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6106	2026-11-26 06:14:13.074593+00	6106	template1	pg_catalog	pg_publication_rel	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	6102	2026-11-26 06:14:13.074593+00	6102	template1	pg_catalog	pg_subscription_rel	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2613	2026-11-26 06:14:13.074593+00	2613	template1	pg_catalog	pg_largeobject	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	13391	2026-11-26 06:14:13.074593+00	13391	template1	information_schema	sql_features	0	714
01m8b7tzs3rgf16nppbekwekfb	1663	1	13396	2026-11-26 06:14:13.074593+00	13396	template1	information_schema	sql_implementation_info	0	12
01m8b7tzs3rgf16nppbekwekfb	1663	1	13401	2026-11-26 06:14:13.074593+00	13401	template1	information_schema	sql_parts	0	10
01m8b7tzs3rgf16nppbekwekfb	1663	1	2619	2026-11-26 06:14:13.074593+00	2619	template1	pg_catalog	pg_statistic	0	404
01m8b7tzs3rgf16nppbekwekfb	1663	1	13406	2026-11-26 06:14:13.074593+00	13406	template1	information_schema	sql_sizing	0	23
01m8b7tzs3rgf16nppbekwekfb	1663	1	1247	2026-11-26 06:14:13.074593+00	1247	template1	pg_catalog	pg_type	0	611
01m8b7tzs3rgf16nppbekwekfb	1663	1	3118	2026-11-26 06:14:13.074593+00	3118	template1	pg_catalog	pg_foreign_table	0	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2690	2026-11-26 06:14:13.074593+00	1255	template1	pg_catalog	pg_proc	2	3244
01m8b7tzs3rgf16nppbekwekfb	1663	1	2691	2026-11-26 06:14:13.074593+00	1255	template1	pg_catalog	pg_proc	2	3244
01m8b7tzs3rgf16nppbekwekfb	1663	1	2703	2026-11-26 06:14:13.074593+00	1247	template1	pg_catalog	pg_type	2	611
01m8b7tzs3rgf16nppbekwekfb	1663	1	2704	2026-11-26 06:14:13.074593+00	1247	template1	pg_catalog	pg_type	2	611
01m8b7tzs3rgf16nppbekwekfb	1663	1	2658	2026-11-26 06:14:13.074593+00	1249	template1	pg_catalog	pg_attribute	2	3054
01m8b7tzs3rgf16nppbekwekfb	1663	1	2659	2026-11-26 06:14:13.074593+00	1249	template1	pg_catalog	pg_attribute	2	3054
01m8b7tzs3rgf16nppbekwekfb	1663	1	2662	2026-11-26 06:14:13.074593+00	1259	template1	pg_catalog	pg_class	2	410
01m8b7tzs3rgf16nppbekwekfb	1663	1	2663	2026-11-26 06:14:13.074593+00	1259	template1	pg_catalog	pg_class	2	410
01m8b7tzs3rgf16nppbekwekfb	1663	1	3455	2026-11-26 06:14:13.074593+00	1259	template1	pg_catalog	pg_class	2	410
01m8b7tzs3rgf16nppbekwekfb	1663	1	2656	2026-11-26 06:14:13.074593+00	2604	template1	pg_catalog	pg_attrdef	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2657	2026-11-26 06:14:13.074593+00	2604	template1	pg_catalog	pg_attrdef	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2664	2026-11-26 06:14:13.074593+00	2606	template1	pg_catalog	pg_constraint	2	111
01m8b7tzs3rgf16nppbekwekfb	1663	1	2665	2026-11-26 06:14:13.074593+00	2606	template1	pg_catalog	pg_constraint	2	111
01m8b7tzs3rgf16nppbekwekfb	1663	1	2666	2026-11-26 06:14:13.074593+00	2606	template1	pg_catalog	pg_constraint	2	111
01m8b7tzs3rgf16nppbekwekfb	1663	1	2667	2026-11-26 06:14:13.074593+00	2606	template1	pg_catalog	pg_constraint	2	111
01m8b7tzs3rgf16nppbekwekfb	1663	1	2579	2026-11-26 06:14:13.074593+00	2606	template1	pg_catalog	pg_constraint	2	111
01m8b7tzs3rgf16nppbekwekfb	1663	1	2680	2026-11-26 06:14:13.074593+00	2611	template1	pg_catalog	pg_inherits	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2187	2026-11-26 06:14:13.074593+00	2611	template1	pg_catalog	pg_inherits	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2678	2026-11-26 06:14:13.074593+00	2610	template1	pg_catalog	pg_index	2	162
01m8b7tzs3rgf16nppbekwekfb	1663	1	2679	2026-11-26 06:14:13.074593+00	2610	template1	pg_catalog	pg_index	2	162
01m8b7tzs3rgf16nppbekwekfb	1663	1	2688	2026-11-26 06:14:13.074593+00	2617	template1	pg_catalog	pg_operator	2	799
01m8b7tzs3rgf16nppbekwekfb	1663	1	2689	2026-11-26 06:14:13.074593+00	2617	template1	pg_catalog	pg_operator	2	799
01m8b7tzs3rgf16nppbekwekfb	1663	1	2754	2026-11-26 06:14:13.074593+00	2753	template1	pg_catalog	pg_opfamily	2	146
01m8b7tzs3rgf16nppbekwekfb	1663	1	2755	2026-11-26 06:14:13.074593+00	2753	template1	pg_catalog	pg_opfamily	2	146
01m8b7tzs3rgf16nppbekwekfb	1663	1	2686	2026-11-26 06:14:13.074593+00	2616	template1	pg_catalog	pg_opclass	2	177
01m8b7tzs3rgf16nppbekwekfb	1663	1	2687	2026-11-26 06:14:13.074593+00	2616	template1	pg_catalog	pg_opclass	2	177
01m8b7tzs3rgf16nppbekwekfb	1663	1	2651	2026-11-26 06:14:13.074593+00	2601	template1	pg_catalog	pg_am	2	7
01m8b7tzs3rgf16nppbekwekfb	1663	1	2652	2026-11-26 06:14:13.074593+00	2601	template1	pg_catalog	pg_am	2	7
01m8b7tzs3rgf16nppbekwekfb	1663	1	2653	2026-11-26 06:14:13.074593+00	2602	template1	pg_catalog	pg_amop	2	945
01m8b7tzs3rgf16nppbekwekfb	1663	1	2654	2026-11-26 06:14:13.074593+00	2602	template1	pg_catalog	pg_amop	2	945
01m8b7tzs3rgf16nppbekwekfb	1663	1	2756	2026-11-26 06:14:13.074593+00	2602	template1	pg_catalog	pg_amop	2	945
01m8b7tzs3rgf16nppbekwekfb	1663	1	2655	2026-11-26 06:14:13.074593+00	2603	template1	pg_catalog	pg_amproc	2	696
01m8b7tzs3rgf16nppbekwekfb	1663	1	2757	2026-11-26 06:14:13.074593+00	2603	template1	pg_catalog	pg_amproc	2	696
01m8b7tzs3rgf16nppbekwekfb	1663	1	2681	2026-11-26 06:14:13.074593+00	2612	template1	pg_catalog	pg_language	2	4
01m8b7tzs3rgf16nppbekwekfb	1663	1	2682	2026-11-26 06:14:13.074593+00	2612	template1	pg_catalog	pg_language	2	4
01m8b7tzs3rgf16nppbekwekfb	1663	1	2996	2026-11-26 06:14:13.074593+00	2995	template1	pg_catalog	pg_largeobject_metadata	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2683	2026-11-26 06:14:13.074593+00	2613	template1	pg_catalog	pg_largeobject	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2650	2026-11-26 06:14:13.074593+00	2600	template1	pg_catalog	pg_aggregate	2	148
01m8b7tzs3rgf16nppbekwekfb	1663	1	2696	2026-11-26 06:14:13.074593+00	2619	template1	pg_catalog	pg_statistic	2	404
01m8b7tzs3rgf16nppbekwekfb	1663	1	3380	2026-11-26 06:14:13.074593+00	3381	template1	pg_catalog	pg_statistic_ext	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3997	2026-11-26 06:14:13.074593+00	3381	template1	pg_catalog	pg_statistic_ext	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3379	2026-11-26 06:14:13.074593+00	3381	template1	pg_catalog	pg_statistic_ext	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3433	2026-11-26 06:14:13.074593+00	3429	template1	pg_catalog	pg_statistic_ext_data	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2692	2026-11-26 06:14:13.074593+00	2618	template1	pg_catalog	pg_rewrite	2	142
01m8b7tzs3rgf16nppbekwekfb	1663	1	2693	2026-11-26 06:14:13.074593+00	2618	template1	pg_catalog	pg_rewrite	2	142
01m8b7tzs3rgf16nppbekwekfb	1663	1	2699	2026-11-26 06:14:13.074593+00	2620	template1	pg_catalog	pg_trigger	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2701	2026-11-26 06:14:13.074593+00	2620	template1	pg_catalog	pg_trigger	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2702	2026-11-26 06:14:13.074593+00	2620	template1	pg_catalog	pg_trigger	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3467	2026-11-26 06:14:13.074593+00	3466	template1	pg_catalog	pg_event_trigger	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3468	2026-11-26 06:14:13.074593+00	3466	template1	pg_catalog	pg_event_trigger	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2675	2026-11-26 06:14:13.074593+00	2609	template1	pg_catalog	pg_description	2	5136
01m8b7tzs3rgf16nppbekwekfb	1663	1	2660	2026-11-26 06:14:13.074593+00	2605	template1	pg_catalog	pg_cast	2	229
01m8b7tzs3rgf16nppbekwekfb	1663	1	2661	2026-11-26 06:14:13.074593+00	2605	template1	pg_catalog	pg_cast	2	229
01m8b7tzs3rgf16nppbekwekfb	1663	1	3502	2026-11-26 06:14:13.074593+00	3501	template1	pg_catalog	pg_enum	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3503	2026-11-26 06:14:13.074593+00	3501	template1	pg_catalog	pg_enum	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	3534	2026-11-26 06:14:13.074593+00	3501	template1	pg_catalog	pg_enum	2	0
01m8b7tzs3rgf16nppbekwekfb	1663	1	2684	2026-11-26 06:14:13.074593+00	2615	template1	pg_catalog	pg_namespace	2	4
01m8b7tzs3rgf16nppbekwekfb	1663	1	2685	2026-11-26 06:14:13.074593+00	2615	template1	pg_catalog	pg_namespace	2	4
01m8b7tzs3rgf16nppbekwekfb	1663	1	2668	2026-11-26 06:14:13.074593+00	2607	template1	pg_catalog	pg_conversion	2	128
01m8b7tzs3rgf16nppbekwekfb	1663	1	2669	2026-11-26 06:14:13.074593+00	2607	template1	pg_catalog	pg_conversion	2	128
01m8b7tzs3rgf16nppbekwekfb	1663	1	2670	2026-11-26 06:14:13.074593+00	2607	template1	pg_catalog	pg_conversion	2	128
01m8b7tzs3rgf16nppbekwekfb	1663	1	2673	2026-11-26 06:14:13.074593+00	2608	template1	pg_catalog	pg_depend	2	1831
01m8b7tzs3rgf16nppbekwekfb	1663	1	2674	2026-11-26 06:14:13.074593+00	2608	template1	pg_catalog	pg_depend	2	1831
01m8b7tzs3rgf16nppbekwekfb	1663	1	3608	2026-11-26 06:14:13.074593+00	3602	template1	pg_catalog	pg_ts_config	2	29
01m8b7tzs3rgf16nppbekwekfb	1663	1	3712	2026-11-26 06:14:13.074593+00	3602	template1	pg_catalog	pg_ts_config	2	29
\.
copy velvet.incidents (cluster_id, timeline, lsn, xid, committed_at, reasons, recorded_at, settled_at) from stdin;
01m8b7tzs3rgf16nppbekwekfb	1	0/A48D40	730	2026-11-26 06:14:15.41589+00	["2,901 rows of booking were deleted"]	2026-11-26 06:14:15.614368+00	\N
\.
copy velvet.pins (backup_id, reason, until, pinned_at) from stdin;
01m8b7v1sqzjeeys3ezjb6dd3e	quarter end	\N	2026-11-26 06:14:19.699568+00
\.
copy velvet.released (cluster_id, timeline, first, last, released_at, tidied) from stdin;
\.
copy velvet.hole_causes (cluster_id, timeline, from_lsn, cause, found_at) from stdin;
\.
copy velvet.policies (id, name, labels, keep_rule, second_store, capture_alert_seconds, created_at) from stdin;
01m8b7v62s6ztp88d2rmdwn7s6	outer	{"fleet": "outer"}	{"count": 0, "daily": 0, "weekly": 0, "yearly": 0, "monthly": 3, "spanHours": 960}	\N	\N	2026-11-26 06:14:19.482011+00
\.
copy velvet.calendar (id, cluster_id, policy_id, work, detail, schedule, paused, since, created_at) from stdin;
01m8b7v6379aaxrksn5crxq6tn	\N	01m8b7v62s6ztp88d2rmdwn7s6	backup	auto	{"everyHours": 24}	f	2026-11-26 06:14:19.496083+00	2026-11-26 06:14:19.496083+00
\.
copy velvet.calendar_runs (entry_id, cluster_id, due, begun_at, task_id, problem) from stdin;
\.
copy velvet.losses (cluster_id, found, found_at) from stdin;
\.
select setval('velvet.instances', 1);
select setval('public.velvet_migrations_id_seq', (select max(id) from public.velvet_migrations));
