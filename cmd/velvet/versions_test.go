package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/core/readiness"
	"velvetrewind/testbed"
)

// journey is the whole job, step by step, on one version of the server.
type journey struct {
	*stage
	deleted, updated, truncated, dropped string // transactions of the accidents
	noon                                 string // a time before them
	between                              string // an LSN before them
	base                                 string // the first base backup
	copy                                 api.Copy
}

// steps are the job in the order in which it is done.
var steps = []struct {
	name string
	do   func(*journey, *testing.T)
}{
	{"register", (*journey).register},
	{"readiness", (*journey).readiness},
	{"capture", (*journey).capture},
	{"full base backup", (*journey).full},
	{"incremental from the data directory", (*journey).fromData},
	{"incremental through SQL", (*journey).throughSQL},
	{"accidents", (*journey).accidents},
	{"moments of every form", (*journey).everyMoment},
	{"side copy", (*journey).sideCopy},
	{"proof", (*journey).proof},
	{"step back and forward", (*journey).backAndForward},
	{"open", (*journey).open},
	{"discard", (*journey).discardCopy},
	{"crash, and latest", (*journey).crash},
	{"promotion to another timeline", (*journey).promotion},
}

// versionsTable names a file for the table of what was done on which version.
const versionsTable = "VELVET_VERSIONS_TABLE"

// TestEveryVersion does the whole job on every supported version, and prints what was done on
// which.
func TestEveryVersion(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	done := make(map[int]map[string]bool)
	t.Run("versions", func(t *testing.T) {
		testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
			j := &journey{stage: newStageOn(b)}
			for _, s := range steps {
				ok := t.Run(s.name, func(t *testing.T) { s.do(j, t) })
				mu.Lock()
				if done[b.Major] == nil {
					done[b.Major] = make(map[string]bool)
				}
				done[b.Major][s.name] = ok
				mu.Unlock()
				require.True(t, ok, s.name)
			}
		})
	})
	table := fmt.Sprintf("\n%-38s", "step")
	for _, v := range pg.Versions() {
		table += fmt.Sprintf("%6d", v.Major)
	}
	for _, s := range steps {
		table += fmt.Sprintf("\n%-38s", s.name)
		for _, v := range pg.Versions() {
			mark := "no"
			if done[v.Major][s.name] {
				mark = "yes"
			}
			table += fmt.Sprintf("%6s", mark)
			assert.True(t, done[v.Major][s.name], "%s on %d", s.name, v.Major)
		}
	}
	t.Log(table)
	if path := os.Getenv(versionsTable); path != "" { // make test prints it: a package that passes says nothing
		require.NoError(t, os.WriteFile(path, []byte(table+"\n"), 0o600))
	}
}

func (j *journey) register(t *testing.T) {
	j.protect()
	k := j.cluster()
	assert.Equal(t, j.Major, k.ServerVersion/10000)
}

func (j *journey) readiness(t *testing.T) {
	var r api.ReadinessReport
	j.service.JSON(&r, "cluster", "ready", "ferries")
	for _, c := range r.Checks {
		assert.NotEqual(t, string(readiness.Needed), c.State, "%s: %s", c.ID, c.Found)
		if c.ID == "read_changes" || c.ID == "read_files" || c.ID == "read_tables" || c.ID == "copies" || c.ID == "version" {
			assert.Equal(t, string(readiness.OK), c.State, "%s: %s", c.ID, c.Found)
		}
	}
	own := pg.Major(j.Major).StartBackupSignature
	assert.Contains(t, j.service.Must("cluster", "role", "--server", fmt.Sprint(j.Major)), own)
	j.ferries.Exec("postgres", "revoke execute on function "+own+" from velvet")
	assert.Contains(t, j.service.Must("cluster", "ready", "ferries"), own, "what the server calls the right is named")
	j.ferries.Exec("postgres", "grant execute on function "+own+" to velvet")
}

func (j *journey) capture(t *testing.T) {
	if pg.Major(j.Major).EventTriggers {
		j.ferries.Exec("postgres", `create function hail() returns event_trigger language plpgsql as $$ begin raise log 'HAILED %;',
			current_setting('application_name'); end $$`,
			"create event trigger hail on login execute function hail()", "alter event trigger hail enable always")
	}
	j.commit(1)
	j.captured()
	assert.Equal(t, "streaming", j.cluster().Capture.State)
}

// take takes a base backup and says what its log tells.
func (j *journey) take(t *testing.T, kind string) (api.Backup, string) {
	var b api.Backup
	j.service.JSON(&b, "backup", "take", "ferries", "--checkpoint", "fast", "--kind", kind)
	assert.Equal(t, kind, b.Kind)
	assert.Zero(t, b.PageFaults)
	return b, j.service.Must("task", "show", b.Task)
}

func (j *journey) full(t *testing.T) {
	b, log := j.take(t, "full")
	j.base = b.ID
	assert.Contains(t, log, "manifest agrees")
	require.Len(t, b.Tablespaces, 1)
}

func (j *journey) fromData(t *testing.T) {
	j.ferries.Exec("postgres", "update booking set note = note || '!' where id % 50 = 0",
		"update payment set cents = cents + 1 where id % 9 = 0")
	b, log := j.take(t, "incremental")
	assert.Contains(t, log, "is read from "+j.ferries.DataDir)
	assert.Less(t, b.BytesRead, b.BytesHeld/2)
}

func (j *journey) throughSQL(t *testing.T) {
	j.service.Stop()
	j.service.With("--read-data", "sql")
	j.service.Start()
	j.streaming()
	j.ferries.Exec("postgres", "update booking set note = note || '?' where id % 70 = 0",
		"insert into payment select n, n from generate_series(1001, 1100) n")
	_, log := j.take(t, "incremental")
	assert.Contains(t, log, "is read through SQL")
}

func (j *journey) accidents(t *testing.T) {
	j.ferries.Exec("postgres", "create table fare (id int primary key, cents int)",
		"insert into fare select n, n from generate_series(1, 300) n",
		"create table berth (id int primary key)", "insert into berth select generate_series(1, 40)",
		"create table invoice (id int primary key, note text)", "insert into invoice select n, 'due' from generate_series(1, 70) n",
		"create table pier (id int, note text)", "create table season (id int, year int) partition by list (year)",
		"create table season_2019 partition of season for values in (2019)",
		"create table season_2026 partition of season for values in (2026)",
		"insert into season select n, case when n % 2 = 0 then 2019 else 2026 end from generate_series(1, 100) n")
	j.commit(2)
	j.between = testbed.One[string](j.Bed, j.db, "select pg_current_wal_insert_lsn()::text")
	j.ferries.Exec("postgres", "select pg_create_restore_point('high tide')")
	time.Sleep(50 * time.Millisecond) // so that the clock has moved since
	j.noon = testbed.One[time.Time](j.Bed, j.db, "select clock_timestamp()").UTC().Format(time.RFC3339Nano)
	time.Sleep(50 * time.Millisecond)
	j.updated = j.in("update fare set cents = 1")
	j.deleted = j.in("delete from booking")
	j.truncated = j.in("truncate berth")
	j.dropped = j.in("drop table invoice")
	j.in("alter table pier drop column note")
	j.in("delete from season")
	j.commit(3)
	j.captured()
	j.Eventually("the journal tells them", func() bool {
		return j.service.Velvet("changes", "show", "ferries", j.dropped).Code == 0
	})
	for xid, says := range map[string]string{j.updated: "fare", j.deleted: "booking", j.truncated: "berth", j.dropped: "invoice"} {
		assert.Contains(t, j.service.Must("changes", "show", "ferries", xid), says)
	}
	assert.Equal(t, "0 0 20000 ", tell(j.change(j.deleted), "booking"))
	assert.Equal(t, "0 300 0 ", tell(j.change(j.updated), "fare"))
}

// holds tells what a copy holds of what the accidents concern: the sum of fares, and rows of
// bookings, berths and invoices.
func (j *journey) holds(conn *pgx.Conn) string {
	invoices := 0
	if testbed.One[bool](j.Bed, conn, "select to_regclass('invoice') is not null") {
		invoices = testbed.One[int](j.Bed, conn, "select count(*) from invoice")
	}
	return fmt.Sprint(testbed.One[string](j.Bed, conn,
		"select (select sum(cents) from fare) || ' ' || (select count(*) from booking) || ' ' || (select count(*) from berth)"),
		" ", invoices)
}

func (j *journey) everyMoment(t *testing.T) {
	for _, c := range []struct{ moment, want string }{
		{j.noon, "45150 20000 40 70"},
		{"before tx " + j.updated, "45150 20000 40 70"},
		{"tx " + j.updated, "300 20000 40 70"},
		{"before lsn " + j.between, "45150 20000 40 70"},
		{"lsn " + j.between, "45150 20000 40 70"},
		{"restore point \"high tide\"", "45150 20000 40 70"},
		{"before delete of booking", "300 20000 40 70"},
		{"before truncate of berth", "300 0 40 70"},
		{"before drop of invoice", "300 0 0 70"},
		{"latest", "300 0 0 0"},
	} {
		var k api.Copy
		j.service.JSON(&k, "restore", "start", "ferries", c.moment)
		require.Equal(t, "paused", k.State, c.moment)
		assert.Equal(t, k.Plan.Boundary.End, k.Replayed, c.moment)
		conn := j.connect(k.Port, "postgres")
		assert.Equal(t, c.want, j.holds(conn), c.moment)
		require.NoError(t, conn.Close(context.Background()))
		j.discard(k)
	}
	for moment, c := range map[string]struct {
		asks string
		want int
	}{
		"base " + j.base:          {"select count(*) from journal", 1},
		"before alter of pier":    {"select count(*) from information_schema.columns where table_name = 'pier'", 2},
		"before delete of season": {"select count(*) from season", 100},
	} {
		k, conn := j.restore(moment)
		assert.Equal(t, c.want, testbed.One[int](j.Bed, conn, c.asks), moment)
		j.discard(k)
	}
}

func (j *journey) sideCopy(t *testing.T) {
	j.service.JSON(&j.copy, "restore", "start", "ferries", "before delete of booking", "--name", "look")
	assert.Equal(t, "look", j.copy.Name)
	assert.Contains(t, j.service.Must("__complete", "copy", "show", ""), "look\tferries at", "shell completion offers its name")
	assert.Contains(t, j.service.Must("copy", "show", j.copy.ID[len(j.copy.ID)-5:]), j.copy.ID, "an end of its id is enough")
	assert.Contains(t, j.service.Must("backup", "show", j.base[len(j.base)-5:]), j.base)
	assert.Contains(t, j.service.Must("moment", "base "+j.base[len(j.base)-5:], "--cluster", "ferries"), "last in")
	j.refused(1, []string{`there is a copy named "look" already`}, "restore", "start", "ferries", "latest", "--name", "look")
	require.Len(t, j.copy.WaysIn, 2)
	conn := j.connect(j.copy.Port, "postgres")
	assert.Equal(t, 20000, testbed.One[int](j.Bed, conn, "select count(*) from booking"))
	assert.Equal(t, fmt.Sprint(j.Major), testbed.One[string](j.Bed, conn,
		"select current_setting('server_version_num')::int / 10000 || ''"))
	require.NoError(t, conn.Close(context.Background()))
}

func (j *journey) proof(t *testing.T) {
	out := j.service.Must("prove", "run", "look")
	assert.Contains(t, out, "verdict: passed")
	if pg.Major(j.Major).EventTriggers {
		log := j.said(filepath.Join(j.copy.Directory, "server.log"))
		assert.Contains(t, log, "HAILED ;", "the test's own session was")
		testbed.Attack(t, fmt.Sprintf("superuser of a cluster of version %d, an event trigger at login, in a copy", j.Major),
			strings.Contains(log, "HAILED velvet"))
	}
}

func (j *journey) backAndForward(t *testing.T) {
	for moment, want := range map[string]string{"before tx " + j.updated: "45150 20000", "tx " + j.deleted: "300 0"} {
		k, conn := j.step(j.copy, moment)
		assert.Equal(t, want, testbed.One[string](j.Bed, conn,
			"select (select sum(cents) from fare) || ' ' || (select count(*) from booking)"), moment)
		require.NoError(t, conn.Close(context.Background()))
		assert.Equal(t, j.copy.Port, k.Port)
	}
}

func (j *journey) open(t *testing.T) {
	j.service.Must("copy", "open", "look")
	assert.Contains(t, j.service.Must("prove", "run", "look"), "verdict: passed")
	conn := j.connect(j.copy.Port, "postgres")
	_, err := conn.Exec(context.Background(), "insert into journal values (-1)")
	require.NoError(t, err)
	assert.Equal(t, 0, testbed.One[int](j.Bed, conn, "select count(*) from pg_catalog.pg_stat_replication"))
	require.NoError(t, conn.Close(context.Background()))
}

func (j *journey) discardCopy(t *testing.T) {
	j.service.Must("copy", "discard", "look", "--confirm", "ferries")
	assert.NoDirExists(t, j.copy.Directory)
	assert.Contains(t, j.service.Must("copy", "list"), "There is no copy")
}

func (j *journey) crash(t *testing.T) {
	last := j.commit(4)
	j.captured()
	require.NoError(t, j.db.Close(context.Background()))
	j.ferries.Stop("immediate")
	j.Eventually("the last commit is captured", func() bool {
		return j.service.Velvet("moment", "tx "+last, "--cluster",
			"ferries").Code == 0
	})
	k, conn := j.restore("latest")
	assert.Equal(t, 4, testbed.One[int](j.Bed, conn, "select max(n) from journal"))
	require.NoError(t, conn.Close(context.Background()))
	j.discard(k)
	j.ferries.Start()
	j.db = j.ferries.Connect("postgres")
	j.streaming()
}

func (j *journey) promotion(t *testing.T) {
	before := j.commit(5)
	j.captured()
	require.NoError(t, j.db.Close(context.Background()))
	j.ferries.Stop("fast")
	require.NoError(t, j.Host.WriteFile(filepath.Join(j.ferries.DataDir, "standby.signal"), nil, 0o600))
	j.ferries.Start()
	j.ferries.Exec("postgres", "select pg_promote()")
	j.db = j.ferries.Connect("postgres")
	after := j.commit(6)
	j.Eventually("capture is on the new timeline", func() bool {
		k := j.cluster().Capture
		return k.Timeline == 2 &&
			k.State == "streaming"
	})
	j.captured()
	k := j.cluster()
	assert.Empty(t, k.Holes)
	require.Len(t, k.Reach, 2)
	assert.FileExists(t, j.Path("home", "store", "clusters", k.ID, "wal", "00000002.history"))
	for moment, want := range map[string]int{"before tx " + before: 4, "tx " + before: 5, "tx " + after: 6} {
		k, conn := j.restore(moment)
		assert.Equal(t, want, testbed.One[int](j.Bed, conn, "select max(n) from journal"), moment)
		require.NoError(t, conn.Close(context.Background()))
		j.discard(k)
	}
	b, _ := j.take(t, "full")
	assert.EqualValues(t, 2, b.Timeline)
	third := j.commit(7)
	j.captured()
	c, conn := j.restore("before tx " + third)
	assert.Equal(t, 6, testbed.One[int](j.Bed, conn, "select max(n) from journal"))
	require.NoError(t, conn.Close(context.Background()))
	j.discard(c)
}

// TestComparisonWithAnotherVersion holds a copy against the cluster that took its place on a newer server.
func TestComparisonWithAnotherVersion(t *testing.T) {
	t.Parallel()
	s := newStageOn(testbed.NewOf(t, 14))
	newer := testbed.NewOf(t, 18)
	quay := newer.Postgres("quay", true)
	odd := []string{"create schema crew", `create table crew.shift (id int primary key, starts timestamptz, took interval, share float8,
		pay numeric,
		note json, photo bytea, names text[])`, `insert into crew.shift select n, '2026-03-29 01:00+00'::timestamptz + n * interval '1
		hour',
		n * interval '1 mon 3.5 h', n / 7.0, 'NaN', '{"a":  1}', '\x00ff', array['a,b', null, '"'] from generate_series(1, 3000) n`,
		"create table crew.empty (n int)"}
	s.ferries.Exec("postgres", odd...)
	quay.Exec("postgres", append([]string{"create table crew_is_not_here (n int)"}, odd...)...)
	quay.Exec("postgres", "update crew.shift set share = share + 1e-15 where id = 7", "delete from crew.shift where id = 9",
		"create role velvet login replication password '"+rolePassword+"'", "grant pg_read_all_data, pg_monitor to velvet")
	s.protect()
	r := s.service.VelvetWith(rolePassword+"\n", "cluster", "add", "newer", "--connect", quay.DSN("velvet", "postgres"), "--password-file",
		"-", "--no-base")
	require.Zero(t, r.Code, r.Err)
	s.take()
	k, _ := s.restore("latest")
	out := s.service.Must("rescue", "compare", k.Name, "--database", "postgres", "--schema", "crew", "--with", "newer")
	assert.Regexp(t, `crew.empty +whole rows +0 +0 +0 +0 +0\n`, out)
	assert.Regexp(t, `crew.shift +id +3,000 +2,999 +1 +1 +0\n`, out)
	assert.Regexp(t, `changed +\(7,`, out)
	assert.Regexp(t, `missing +\(9,`, out)
	assert.NotContains(t, out, "by tx", "transactions there are others")
	s.refused(1, []string{"no such cluster", "nowhere"}, "rescue", "compare", k.Name, "--database", "postgres", "--with", "nowhere")
	s.discardAll()
}
