package testbed

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// FleetDays is how long the histories of a simulated fleet are.
const FleetDays = 33

// Fleet records simulated clusters with histories of FleetDays days, as a service would
// have: a base backup each day, a WAL segment every quarter of an hour, keep rules, labels
// and a calendar. Some of them need attention. Their captures are held as by another
// instance, so that nobody tries to reach servers that do not exist; it is over with the test.
func (b *Bed) Fleet(catalogue string, clusters int) {
	conn, err := pgx.Connect(b.ctx(), catalogue)
	require.NoError(b, err)
	b.Cleanup(func() { _ = conn.Close(context.Background()) })
	for _, q := range fleetStatements {
		var args []any
		if strings.Contains(q, "$1") {
			args = append(args, clusters)
		}
		_, err := conn.Exec(b.ctx(), q, args...)
		require.NoError(b, err, q)
	}
}

// fleetStatements fill a catalogue; $1 is how many clusters there are.
var fleetStatements = []string{
	`insert into velvet.clusters (id, name, conn_string, system_id, server_version, segment_size, data_checksums, superuser, slot,
		created_at, labels)
	select 'fleet' || lpad(n::text, 21, '0'), (array['ferries', 'berths', 'lights', 'pilots', 'crews', 'tides', 'freight',
	'islands'])[1 + n % 8] || '-' || lpad(n::text, 3, '0'),
		'host=db' || n || '.saltmarsh.example user=velvet dbname=postgres', 7000000000000000000 + n, 150018, 16777216, true,
		'harbourmaster', 'velvet_' || n, now() - interval '90 days',
		jsonb_build_object('fleet', (array['outer', 'inner', 'inner', 'plain'])[1 + n % 4],
			'site', (array['north', 'south'])[1 + n % 2])
	from generate_series(1, $1::int) n`,
	`select pg_advisory_lock(1986358274, hashtext(id)) from velvet.clusters where id like 'fleet%' and $1 > 0`,
	`insert into velvet.captures (cluster_id, wanted, state, problem, timeline, flushed_lsn, stored_lsn, server_lsn, complete_to, since,
		updated_at)
	select id, n % 97 <> 0, case when n % 97 = 0 then 'stopped' when n % 71 = 0 then 'retrying' else 'streaming' end,
		case when n % 71 = 0
			then 'the server cannot be reached (no route to host); check host, port and that it is running' else '' end, 1,
		'0/0'::pg_lsn + ((96 * 33 + 100) * 16777216::numeric), '0/0'::pg_lsn + ((96 * 33 + 100) * 16777216::numeric),
		'0/0'::pg_lsn + ((96 * 33 + 100) * 16777216::numeric) + n % 5000,
		now() - case when n % 97 = 0 or n % 71 = 0 then interval '3 hours' else (n % 30) * interval '1 second' end,
		now() - interval '3 hours', now()
	from (select id, right(id, 5)::int as n from velvet.clusters where id like 'fleet%' and $1 > 0) k`,
	// Of every 53rd cluster a segment is missing; from half of those a base backup carries on.
	`insert into velvet.segments (cluster_id, timeline, number, name, start_lsn, end_lsn, stored_bytes, records, last_commit, stored_at)
	select id, 1, s, lpad('1', 8, '0') || lpad('0', 8, '0') || lpad(to_hex(s), 8, '0'), '0/0'::pg_lsn + s * 16777216::numeric,
	'0/0'::pg_lsn + (s + 1) * 16777216::numeric, 5000000, 90000,
		now() - interval '33 days' + (s - 99) * interval '15 minutes', now() - interval '33 days' + (s - 99) * interval '15 minutes'
	from (select id, right(id, 5)::int as n from velvet.clusters where id like 'fleet%' and $1 > 0) k, generate_series(100,
	100 + 96 * 33 - 1) s
	where not (n % 53 = 0 and s = 100 + case when n % 2 = 0 then 1500 else 96 * 33 - 20 end)`,
	`insert into velvet.runs select cluster_id, timeline, min(number), max(number), min(start_lsn), max(end_lsn), max(last_commit)
	from (select *, sum(case when start_lsn = before then 0 else 1 end) over (partition by cluster_id, timeline order by number) as run
		from (select *, lag(end_lsn) over (partition by cluster_id, timeline order by number) as before from velvet.segments
		where cluster_id like 'fleet%' and $1 > 0) s) r
	group by cluster_id, timeline, run`,
	`insert into velvet.backups (id, cluster_id, kind, timeline, start_lsn, stop_lsn, started_at, stopped_at, files, bytes_read,
		bytes_stored, pages, page_faults, tablespaces, task_id, bytes_held, bytes_shared, extents, new_extents)
	select id || '-' || lpad(d::text, 2, '0'), id, case when d = 0 then 'full' else 'incremental' end, 1,
	'0/0'::pg_lsn + (100 + least(96 * d + 96, 96 * 33 - 2) - 96 * (d = 0)::int) * 16777216::numeric + 4096,
	'0/0'::pg_lsn + (100 + least(96 * d + 96, 96 * 33 - 2) - 96 * (d = 0)::int) * 16777216::numeric + 9000000,
		now() - interval '32 days 9 minutes' + d * interval '1 day', now() - interval '32 days 5 minutes' + d * interval '1 day', 1200,
		case when d = 0 then 90 else 3 end * 1073741824::bigint + (n * 7919 + d * 104729) % 500000000, case when d = 0
		then 30 else 1 end * 1073741824::bigint + (n * 7919 + d * 104729) % 300000000,
		11000000, case when n = 200 and d = 32 then 3 else 0 end, '[]', '', 90::bigint * 1073741824, 29::bigint * 1073741824, 720000,
		9000
	from (select id, right(id, 5)::int as n from velvet.clusters where id like 'fleet%' and $1 > 0) k, generate_series(0, 32) d
	where not (n % 89 = 0 and d > 30) and not (n % 53 = 0 and n % 2 = 1 and d > 31) and n % 131 <> 0`,
	`insert into velvet.policies (id, name, labels, keep_rule) values ('fleet-outer', 'outer', '{"fleet": "outer"}',
		'{"spanHours": 720, "monthly": 12}'), ('fleet-inner', 'inner', '{"fleet": "inner"}', '{"spanHours": 336, "weekly": 8}')`,
	`insert into velvet.calendar (id, policy_id, work, detail, schedule, since) values
		('fleet-a', 'fleet-outer', 'backup', 'auto', '{"at": "02:30", "zone": "Europe/Lisbon", "jitter": 60}',
		now() - interval '60 days'),
		('fleet-b', 'fleet-inner', 'backup', 'auto', '{"at": "03:30", "zone": "Europe/Lisbon", "jitter": 60}',
		now() - interval '60 days')`,
	// What was due by now was begun, so that nothing is.
	`insert into velvet.calendar_runs (entry_id, cluster_id, due, task_id) select e.id, k.id, now(), 'simulated'
		from velvet.calendar e, velvet.clusters k where k.id like 'fleet%' and $1 > 0`,
	`insert into velvet.incidents (cluster_id, timeline, lsn, xid, committed_at, reasons) select id, 1, '0/B0000000', 84213,
		now() - interval '2 hours', '["48,211 rows of booking were deleted"]'
	from velvet.clusters where id like 'fleet%' and right(id, 5)::int % 211 = 0 and $1 > 0`,
	// Thirty days of rehearsals, one each day, which take longer as the cluster grows. Three clusters cannot be restored; of some
	// others one rehearsal failed, and passed when it was tried again.
	`insert into velvet.rehearsals (id, cluster_id, pick, asked_by, asked_at, try, begun_at, ended_at, moment, backup_id, proof_id, outcome,
		cause, laid_out_us, replayed_us, proved_us, bytes, wal, lost_us)
	select id || '-r' || lpad(d::text, 2, '0'), id, (array['latest', 'random', 'oldest'])[1 + d % 3], 'the calendar', at, 1, at, at,
		'latest', '', case when lost then '' else id || '-p' || d end,
		case when lost then 'no copy' when failed then 'failed' else 'passed' end,
		case when lost then 'WAL segment 0000000100000000000000' || lpad(to_hex(64 + n), 2, '0') || ' is missing'
			when failed then 'pages: 1 of 11,796,480 pages are damaged' else '' end,
		case when lost then 0 else (1500 + 10 * (29 - d) + n * 37 % 2400) * 1000000::bigint end, case when lost then 0 else
		(200 + n * 13 % 300 + (n + d) * 7919 % 90) * 1000000::bigint end, case when lost then 0 else
		(300 + n * 17 % 400) * 1000000::bigint end,
		90::bigint * 1073741824, 3::bigint * 1073741824, case when d % 3 = 0 then (n * 31 + d * 17) % 5000 * 1000 else -1 end
	from (select id, n, d, now() - d * interval '1 day' - n % 7 * interval '31 minutes' as at,
		n in (17, 42) and d < 2 + n % 9 or n = 53 and d = 0 as lost, n % 23 = 5 and d = n % 19 as failed from
		(select id, right(id, 5)::int as n from velvet.clusters where id like 'fleet%' and $1 > 0) k,
		generate_series(0, 29) d) x`,
	`update velvet.clusters set back_within_seconds = 7200, losing_at_most_seconds = 60 where id like 'fleet%' and $1 > 0`,
	`analyze`,
}
