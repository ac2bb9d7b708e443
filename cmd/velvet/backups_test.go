package main

import (
	"context"
	"encoding/binary"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// workload changes a cluster at random in every way that incremental backups must bear.
type workload struct {
	*stage
	random *rand.Rand
	table  string // of the step
	number int
	isles  bool // the second database is there
	alone  bool // there is to be none
}

// run runs statements in a database, in which $t stands for the table and $n for a number.
func (w *workload) run(database, q string) {
	q = strings.NewReplacer("$t", w.table, "$n", fmt.Sprint(w.number)).Replace(q)
	conn := w.ferries.Connect(database)
	_, err := conn.Exec(context.Background(), q)
	require.NoError(w, err, q)
	require.NoError(w, conn.Close(context.Background()))
}

// step does one thing, and says what.
func (w *workload) step() string {
	w.table, w.number = fmt.Sprintf("t%d", w.random.IntN(4)), w.random.IntN(30_000)
	const ensure = "create table if not exists $t (id int, note text, wide text); create index if not exists $t_id on $t (id); "
	pick := func(of ...string) string { return of[w.random.IntN(len(of))] }
	at := func(database, q string) func() { return func() { w.run(database, q) } }
	steps := []struct {
		name string
		do   func()
	}{
		{"insert", at("postgres", ensure+"insert into $t select n, repeat('tide', n % 9), case when n % 400 = 0 then (select "+
			"string_agg(md5(random()::text), '') from generate_series(1, 200)) end from generate_series($n, $n + 4000) n")},
		{"update", at("postgres", ensure+"update $t set note = note || 'x' where id between $n and $n + 2000")},
		{"delete", at("postgres", ensure+"delete from $t where id between $n and $n + 4000")},
		{"delete the end and vacuum", func() {
			w.run("postgres", ensure+"delete from $t where id > 5000")
			w.run("postgres", "vacuum (truncate) $t")
		}},
		{"vacuum", at("postgres", "vacuum")},
		{"vacuum full", func() { w.run("postgres", ensure); w.run("postgres", "vacuum full $t") }},
		{"truncate", at("postgres", ensure+"truncate $t")},
		{"drop", at("postgres", "drop table if exists $t")},
		{"move", at("postgres", ensure+"alter table $t set tablespace "+pick("ledger", "pg_default"))},
		{"reindex", func() { w.run("postgres", ensure); w.run("postgres", "reindex table $t") }},
		{"unlogged", at("postgres", "drop table if exists fog; create unlogged table fog as select generate_series(1, 20000) n")},
		{"database", func() { w.database(pick("file_copy", "wal_log")) }},
		{"crash", w.crash},
		{"checkpoint", at("postgres", "checkpoint")},
	}
	s := steps[w.random.IntN(len(steps))]
	for w.alone && s.name == "database" {
		s = steps[w.random.IntN(len(steps))]
	}
	s.do()
	return s.name + " " + w.table
}

// database makes or drops a second database.
func (w *workload) database(strategy string) {
	if w.isles {
		w.run("postgres", "drop database isles")
	} else {
		if w.Major < 15 { // it knows one
			w.run("postgres", "create database isles")
		} else {
			w.run("postgres", "create database isles strategy "+strategy)
		}
		w.run("isles", "create table berth as select n, repeat('b', 50) s from generate_series(1, 3000) n")
	}
	w.isles = !w.isles
}

func (w *workload) crash() {
	require.NoError(w, w.db.Close(context.Background()))
	w.ferries.Stop(host.Immediate)
	w.ferries.Start()
	w.db = w.ferries.Connect("postgres")
	w.streaming()
}

// fingerprint is the content of every logged table of every database.
func fingerprint(t require.TestingT, connect func(database string) *pgx.Conn) string {
	ctx := context.Background()
	conn := connect("postgres")
	rows, err := conn.Query(ctx, "select datname from pg_database where datallowconn and not datistemplate order by 1")
	require.NoError(t, err)
	databases, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	require.NoError(t, conn.Close(ctx))
	var out []string
	for _, d := range databases {
		conn := connect(d)
		rows, err := conn.Query(ctx, "select oid::regclass::text from pg_class where relkind = 'r' and relpersistence = 'p' and "+
			"relnamespace = 'public'::regnamespace order by 1")
		require.NoError(t, err)
		tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
		require.NoError(t, err)
		for _, name := range tables {
			var sum string
			require.NoError(t, conn.QueryRow(ctx, "select count(*) || ' ' || coalesce(md5(string_agg(h, '' order by h)), '') from "+
				"(select md5(x::text) h from "+name+" x) y").Scan(&sum))
			out = append(out, d+"."+name+" "+sum)
		}
		require.NoError(t, conn.Close(ctx))
	}
	return strings.Join(out, "\n")
}

// TestBackupsOfARandomWorkload takes and drops backups of every kind while a cluster is
// changed in every way. Whatever is left is restored with its WAL, and equals what was
// there, with every page whole.
func TestBackupsOfARandomWorkload(t *testing.T) {
	t.Parallel()
	for seed, serve := range [][]string{{}, {"--read-data", "sql", "--compression", "s2"}} {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			randomWorkload(t, uint64(seed)+11, serve)
		})
	}
}

func randomWorkload(t *testing.T, seed uint64, serve []string) {
	s := newStage(t, serve...)
	s.protect()
	w := &workload{stage: s, random: rand.New(rand.NewPCG(seed, 5))}
	want := make(map[string]string) // by backup
	var log []string
	incremental := 0
	for n := range 12 {
		for range 1 + w.random.IntN(6) {
			log = append(log, w.step())
		}
		kind := []string{"full", "incremental", "incremental", "auto"}[w.random.IntN(4)]
		var b api.Backup
		s.service.JSON(&b, "backup", "take", "ferries", "--checkpoint", "fast", "--kind", kind)
		require.Zero(t, b.PageFaults)
		if n > 0 && kind != "full" {
			require.Equal(t, "incremental", b.Kind, strings.Join(log, "; "))
			incremental++
		}
		// With a transaction's number its commit brings the mark to disk before the next crash.
		s.exec("select pg_create_restore_point('" + b.ID + "'), pg_current_xact_id()")
		want[b.ID] = fingerprint(t, s.ferries.Connect)
		log = append(log, b.Kind+" "+b.ID)
		if n%3 == 2 {
			s.dropOne(w.random, want)
		}
	}
	require.Positive(t, incremental)
	s.commit(1) // which brings the last mark to disk
	s.captured()
	assert.Contains(t, s.service.Must("store", "audit", "--full"), "and nothing else")
	for id, content := range want {
		k, conn := s.restore("restore point " + id)
		assert.Equal(t, id, k.Plan.Base)
		require.NoError(t, conn.Close(context.Background()))
		got := fingerprint(t, func(database string) *pgx.Conn { return s.connect(k.Port, database) })
		assert.Equal(t, content, got, "base %s after\n%s", id, strings.Join(log, "\n"))
		assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")
		s.discard(k)
	}
}

func (s *stage) exec(q string) {
	_, err := s.db.Exec(context.Background(), q)
	require.NoError(s, err)
}

func (s *stage) dropOne(random *rand.Rand, want map[string]string) {
	var list []api.Backup
	s.service.JSON(&list, "backup", "list", "ferries")
	b := list[random.IntN(len(list))]
	s.service.Must("backup", "drop", b.ID, "--confirm", "ferries")
	delete(want, b.ID)
}

// TestIncrementalEqualsFull takes an incremental and a full backup of the same moment,
// and compares the restored files after replay to the same LSN.
func TestIncrementalEqualsFull(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	// A file that is zeroes but for a word, and ends in zeroes within an extent.
	sand := append(append(make([]byte, 700_000), "shell"...), make([]byte, 600_001)...)
	require.NoError(t, os.WriteFile(filepath.Join(s.ferries.DataDir, "sand"), sand, 0o644))
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	w := &workload{stage: s, random: rand.New(rand.NewPCG(3, 4))}
	for range 25 {
		w.step()
	}
	s.exec("checkpoint")
	trees := make(map[string]string)
	var end pg.LSN
	for _, kind := range []string{"incremental", "full"} {
		var b api.Backup
		s.service.JSON(&b, "backup", "take", "ferries", "--checkpoint", "fast", "--kind", kind)
		require.Equal(t, kind, b.Kind)
		require.GreaterOrEqual(t, b.ZeroExtents, int64(9))
		trees[kind] = b.ID
		if kind == "incremental" { // pages whose image the one replays and the other holds
			s.exec("do $$ begin for n in 1..60 loop execute format('create table foam%s (n int)', n); execute format('drop table " +
				"foam%s', n); end loop; end $$")
			s.exec("vacuum pg_class")
		}
	}
	s.commit(1)
	s.exec("checkpoint") // a paused copy writes its pages out only if it has replayed one
	s.exec("select pg_create_restore_point('both')")
	s.commit(2) // which brings the mark to disk
	s.captured()
	// The incremental one is not the newest, so that only dropping the full one shows it.
	var copies [2]api.Copy
	for i, kind := range []string{"full", "incremental"} {
		k, conn := s.restore("restore point both")
		require.Equal(t, trees[kind], k.Plan.Base)
		end = k.Replayed
		_, err := conn.Exec(context.Background(), "checkpoint") // a restartpoint, which writes the pages out
		require.NoError(t, err)
		require.NoError(t, conn.Close(context.Background()))
		copies[i] = k
		laid, err := os.ReadFile(filepath.Join(k.Directory, "data", "sand"))
		require.NoError(t, err)
		require.True(t, string(sand) == string(laid), "zeroes that were never stored are there again")
		if kind == "full" {
			s.service.Must("backup", "drop", trees[kind], "--confirm", "ferries")
		}
	}
	require.Equal(t, copies[0].Replayed, end)
	a, b := relationFiles(t, copies[0]), relationFiles(t, copies[1])
	require.Greater(t, len(a), 500)
	for path, content := range a {
		if other, ok := b[path]; assert.True(t, ok, path) {
			assert.Empty(t, unlike(content, other), path)
		}
	}
	assert.Len(t, b, len(a))
}

// relationFiles reads the main forks of all relations below a copy.
func relationFiles(t *testing.T, k api.Copy) map[string][]byte {
	files := make(map[string][]byte)
	for tree, under := range map[string]string{"data": "", "tablespaces": "pg_tblspc/"} {
		root := filepath.Join(k.Directory, tree)
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			rel, err := filepath.Rel(root, path)
			if err != nil {
				return err
			}
			name := under + filepath.ToSlash(rel)
			if f, ok := pg.ParseRelationFile(name); ok && f.Fork == "" {
				files[name], err = os.ReadFile(path)
			}
			return err
		}))
	}
	return files
}

// unlike compares two files page by page and says where they differ. Hints that a reader
// leaves, one byte for each of the few hundred items of a page, and with them its checksum,
// may differ; where the page stands in the WAL and how it is laid out may not. What lies
// between its items and their content is nothing: a page that is replayed from an image has
// zeroes there, another one what was there before.
func unlike(a, b []byte) string {
	if len(a) != len(b) {
		return fmt.Sprintf("%d and %d bytes", len(a), len(b))
	}
	for at := 0; at+pg.BlockSize <= len(a); at += pg.BlockSize {
		x, y := a[at:at+pg.BlockSize], b[at:at+pg.BlockSize]
		lower, upper := int(binary.LittleEndian.Uint16(x[12:])), int(binary.LittleEndian.Uint16(x[14:]))
		differ, hole := 0, 0
		for i := range x {
			switch {
			case x[i] == y[i]:
			case lower <= i && i < upper:
				hole++
			default:
				differ++
			}
		}
		if differ > pg.BlockSize/10 || pg.PageLSN(x) != pg.PageLSN(y) || string(x[12:18]) != string(y[12:18]) {
			return fmt.Sprintf("page %d, with LSN %s and %s, has %d bytes that differ (and %d of nothing)", at/pg.BlockSize, pg.PageLSN(x),
				pg.PageLSN(y), differ, hole)
		}
	}
	return ""
}

// TestDropsAtAnyMoment frees the space of dropped backups while the service is killed,
// and while other backups are taken and restored. What stays is always whole.
func TestDropsAtAnyMoment(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.exec("create table sounding as select n, n as wave, (select string_agg(md5(n || ' ' || i), '') from generate_series(1, 8) i) as " +
		"depth from generate_series(1, 100000) n")
	s.exec("alter table sounding set (autovacuum_enabled = off)")
	take := func() api.Backup {
		var b api.Backup
		s.service.JSON(&b, "backup", "take", "ferries", "--checkpoint", "fast")
		return b
	}
	change := func(from, to int) {
		s.exec(fmt.Sprintf("update sounding set depth = md5(depth) || depth, wave = wave + 1 where n between %d and %d", from, to))
		s.exec("vacuum full sounding")
	}
	taken := func() int64 {
		var st api.Store
		s.service.JSON(&st, "store", "show")
		return st.Clusters[0].Packs
	}
	clean := func() bool {
		return strings.Contains(s.service.Velvet("store", "audit").Out, "Everything that is needed is there, and nothing else.")
	}
	check := func() {
		s.captured()
		assert.Contains(t, s.service.Must("store", "audit", "--full"), "and nothing else")
		want := fingerprint(t, s.ferries.Connect)
		k, conn := s.restore("latest")
		require.NoError(t, conn.Close(context.Background()))
		assert.Equal(t, want, fingerprint(t, func(database string) *pgx.Conn { return s.connect(k.Port, database) }))
		s.discard(k)
	}
	first := take()
	s.exec("update sounding set wave = 0 where n % 100 < 25 and n > 20000") // most extents of the table change
	s.exec("checkpoint")
	second := take()
	require.Equal(t, "incremental", second.Kind)
	require.Less(t, second.NewExtents, second.Extents, "something is shared")
	out := s.service.Must("backup", "drop", first.ID, "--confirm", "ferries")
	assert.Contains(t, out, "condensed", "what only the first had of its packs is gone: %s", out)
	check()
	require.Positive(t, taken())

	random := rand.New(rand.NewPCG(6, 6))
	last := second
	for n := range 5 { // killed in the middle of a drop
		change(n*20000, n*20000+19999)
		next := take()
		s.service.Velvet("backup", "drop", last.ID, "--confirm", "ferries", "--detach")
		time.Sleep(time.Duration(random.IntN(60)) * time.Millisecond) // not to wait for anything: to be killed anywhere
		s.service.Kill()
		s.service.Start()
		s.streaming()
		last = next
		s.Eventually("what was left is removed", clean)
	}
	check()

	for n := range 2 { // beside a backup and a restore
		change(n*30000, n*30000+29999)
		next := take()
		s.service.Must("backup", "take", "ferries", "--checkpoint", "fast", "--kind", "full", "--detach")
		restored := make(chan testbed.Result, 1)
		go func() { restored <- s.service.Velvet("restore", "start", "ferries", "latest", "--output", "json") }()
		s.service.Must("backup", "drop", last.ID, "--confirm", "ferries")
		r := <-restored
		require.Zero(t, r.Code, "%s%s", r.Out, r.Err)
		var k api.Copy
		s.decode(r.Out, &k)
		assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")
		s.discard(k)
		s.Eventually("the backup has ended", func() bool { return len(s.active()) == 0 })
		last = next
		s.Eventually("what was left is removed", clean)
	}
	check()
}

func (s *stage) active() (list []api.Task) {
	var all []api.Task
	s.service.JSON(&all, "task", "list")
	for _, t := range all {
		if t.State == "waiting" || t.State == "running" {
			list = append(list, t)
		}
	}
	return list
}
