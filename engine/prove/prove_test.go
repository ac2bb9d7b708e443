package prove_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/host"
	"velvetrewind/engine/prove"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

func TestMain(m *testing.M) { clusterbed.Main(m) }

var ctx = context.Background()

// scene is a cluster after an accident, with copies of before.
type scene struct {
	*clusterbed.Cluster
	maker *copies.Maker
	undo  []func() // what a fault did to files
	// Of the copy into which faults are seeded.
	planned           plan.Restore
	right             map[string]proof.Check
	last, out, middle pg.FullXID
	spare             string            // oid of that database
	paths             map[string]string // of relations
}

// setScene has a cluster with a table of every kind of index, values out of line, partitions, large objects, and traffic
// around a deletion.
func setScene(b *testbed.Bed, checksums bool) *scene {
	s := &scene{Cluster: clusterbed.NewWith(b, checksums)}
	if b.Major == 17 { // the others are read by our own means
		s.Server.Exec("postgres", "create extension amcheck")
	}
	s.Server.Exec(
		"postgres",
		"create database spare",
		"create extension btree_gist",
		"create table harbor (id int primary key, name text not null unique)",
		`create table booking (id serial primary key, harbor int references harbor, note text, seats int check (seats > 0), place point,
			tags text[], span int4range)`,
		"create index on booking (note desc)",
		"create index on booking using hash (note)",
		"create index on booking using gin (tags) with (fastupdate = off)",
		"create index on booking using gist (place)",
		"create index on booking using spgist (span)",
		"create index on booking using brin (seats)",
		"create index on booking (upper(note)) where seats > 1",
		"create table letter (id int primary key, body text)",
		"alter table letter alter body set storage external",
		"create table fare (day int, price int) partition by range (day)",
		"create table fare_low partition of fare for values from (0) to (100)",
		"create table fare_high partition of fare for values from (100) to (200)",
		"create table ebb (id int primary key, note text) with (autovacuum_enabled = off)",
		"create table crew (id int primary key)",
		"create function sailed() returns int language sql as 'select 1'",
		"insert into harbor select n, 'harbor ' || n from generate_series(1, 50) n",
		`insert into booking (harbor, note, seats, place, tags, span) select 1 + n % 50, 'tide ' || n % 900, 1 + n % 4, point(n, n),
			array['t' || n % 9], int4range(n, n + 5) from generate_series(1, 4000) n`,
		"insert into letter select n, repeat(md5(n::text), 700) from generate_series(1, 40) n",
		"insert into fare select n, n from generate_series(0, 199) n",
		"insert into ebb select n, 'ebb' from generate_series(1, 500) n",
		"insert into crew select generate_series(1, 30)",
		"select lo_from_bytea(0, repeat('sea', 3000)::bytea)",
		"vacuum analyze",
		"delete from ebb where id = 7",
	)
	if b.Major < 17 { // later ones make no such index
		s.Server.Exec("postgres", "create function mark() returns text immutable language sql as $$ select '!' $$",
			"create function shout(int) returns text immutable language plpgsql as $$ begin return $1 || mark(); end $$",
			"create unique index on crew (shout(id))")
	}
	s.Capture()
	s.Eventually("capture streams", func() bool { return s.State().Receives() })
	s.Take(layout.Full)
	for n := range 60 {
		s.Server.Exec("postgres", fmt.Sprintf("insert into booking (harbor, note, seats, tags) values (1, 'late %d', 2, '{t1}')", n),
			fmt.Sprintf("update fare set day = (day + 100) %% 200 where price = %d", n))
	}
	s.Server.Exec("postgres", "delete from booking where id > 100", "insert into booking (harbor, note, seats) values (2, 'after', 1)",
		"truncate crew", "insert into crew values (7)", "alter table letter add signed bool",
		"update harbor set name = name || '!' where id < 9", "drop table ebb")
	holding, err := s.Server.Connect("postgres").Begin(ctx)
	require.NoError(s, err)
	_, err = holding.Exec(ctx, "truncate letter")
	require.NoError(s, err)
	s.Server.Exec("postgres", "insert into crew values (8)")
	require.NoError(s, holding.Commit(ctx))
	s.Captured()
	s.maker = s.Maker()
	return s
}

// prover proves copies of the scene.
func (s *scene) prover() *prove.Prover {
	return &prove.Prover{Cluster: s.Record, Access: s.Access(), Host: s.Host, Store: s.Store, Aside: s.aside,
		Open: func(context.Context, pg.Timeline) (*archive.Archive, *changes.Journal, error) {
			a, j := s.Journal()
			return a, j, nil
		}}
}

// aside makes a second copy as the service does.
func (s *scene) aside(_ context.Context, of catalog.Copy, report task.Report) (catalog.Copy, func(), error) {
	p, err := s.Plan(of.Moment)
	require.NoError(s, err)
	k, err := s.maker.Prepare(ctx, s.Record, p, copies.Wish{})
	require.NoError(s, err)
	k.Beside = of.ID
	require.NoError(s, s.Catalog.AddCopy(ctx, k, nil))
	remove := func() { require.NoError(s, s.maker.Remove(ctx, s.Record, k)) }
	require.NoError(s, s.maker.Make(ctx, s.Record, k, p, report))
	require.NoError(s, s.maker.Open(ctx, s.Record, s.Seen(k), report))
	return s.Seen(k), remove, nil
}

// checks proves a copy; each check by its name.
func (s *scene) checks(p *prove.Prover, k catalog.Copy) map[string]proof.Check {
	list, err := p.Run(ctx, k, task.Silent)
	require.NoError(s, err)
	by := make(map[string]proof.Check, len(list))
	for _, c := range list {
		by[c.Name] = c
	}
	return by
}

// failing are the names of checks that are not what they should be.
func failing(by map[string]proof.Check, verdicts ...proof.Verdict) (list []string) {
	for _, c := range by {
		for _, v := range verdicts {
			if c.Verdict == v {
				list = append(list, c.Name+": "+c.Summary)
			}
		}
	}
	return list
}

func (s *scene) on(k catalog.Copy, database string) *pgx.Conn {
	conn, err := copies.Connect(ctx, s.Host, k, s.Record, database)
	require.NoError(s, err)
	_, err = conn.Exec(ctx, "set default_transaction_read_only = off; set search_path = public")
	require.NoError(s, err)
	return conn
}

// TestRightCopies proves copies that are right: paused, opened, opened and written to, of a moment at which a transaction
// holds tables.
func TestRightCopies(t *testing.T) {
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		s := setScene(b, true)
		k := s.Copy(s.maker, "before delete of booking")
		by := s.checks(s.prover(), k)
		require.Empty(t, failing(by, proof.Failed, proof.CouldNotRun))
		tables := map[string]proof.Table{}
		for _, row := range by[proof.Content].Tables {
			tables[row.Name] = row
		}
		assert.Regexp(t, `^3,959 more than live = 3,960 deleted by tx \d+ − 1 inserted since$`, tables["public.booking"].Cause)
		assert.Regexp(t, `^28 more than live = 30 truncated by tx \d+ − 2 inserted since$`, tables["public.crew"].Cause)
		assert.Regexp(t, `^dropped by tx \d+$`, tables["public.ebb"].Cause)
		assert.Equal(t, tables["public.fare_low"].Sum, tables["public.fare_low"].LiveSum)
		assert.Contains(t, by[proof.Commits].Summary, "transactions of the journal since the base are committed in the copy")

		// Cut at the edge of a page, as only the base backup and the WAL can tell.
		conn := s.on(k, "postgres")
		file := testbed.One[string](b, conn, "select pg_relation_filepath('booking')")
		require.NoError(t, conn.Close(ctx))
		s.edit(k, file, func(b []byte) []byte { return b[:len(b)-pg.BlockSize] })
		short := s.checks(s.prover(), k)
		assert.Equal(t, proof.Failed, short[proof.FilesWhole].Verdict)
		assert.Len(t, failing(short, proof.Failed), 1, "%v", failing(short, proof.Failed))
		s.undo[0]()

		locked := s.Copy(s.maker, "before truncate of letter")
		by = s.checks(s.prover(), locked)
		require.Empty(t, failing(by, proof.Failed, proof.CouldNotRun))
		without := s.prover()
		without.Aside = nil
		assert.NotEmpty(t, failing(s.checks(without, locked), proof.CouldNotRun), "without a second copy, what is locked is not read")

		require.NoError(t, s.maker.Open(ctx, s.Record, k, task.Silent))
		k = s.Seen(k)
		require.Empty(t, failing(s.checks(s.prover(), k), proof.Failed, proof.CouldNotRun), "opened")
		conn = s.on(k, "postgres")
		for range 30 { // transactions of the copy's own take the ids of the first ones out
			_, err := conn.Exec(ctx, "select pg_current_xact_id()")
			require.NoError(t, err)
		}
		by = s.checks(s.prover(), k)
		require.Empty(t, failing(by, proof.Failed, proof.CouldNotRun), "opened, and its ids used anew")
		assert.Contains(t, by[proof.Commits].Notes[0], "gives out anew")
		k.State = catalog.CopyDown
		_, err := s.prover().Run(ctx, k, task.Silent)
		var refused *problem.Problem
		require.ErrorAs(t, err, &refused)
		assert.Contains(t, refused.Detail, "only a paused or open copy")
	})
}

// deadly ends the copy's server as soon as a proof reads something.
type deadly struct {
	task.Report
	s    *scene
	k    catalog.Copy
	when string
	done bool
}

func (d *deadly) Progress(_, _ int64, _ task.Unit, note string) {
	if !d.done && strings.HasPrefix(note, d.when) {
		d.done = true
		require.NoError(d.s, d.s.Host.Stop(ctx, copies.Server(d.k, d.s.Record.Major()), host.Immediate))
	}
}

// TestProofsOfWhatChangesMeanwhile proves while the live tables are no longer as they were, for a role that may read none of them,
// while the live cluster is down, and while the copy dies: what could not be compared is said, and nothing counts as passed.
func TestProofsOfWhatChangesMeanwhile(t *testing.T) {
	s := setScene(testbed.New(t), true)
	k := s.Copy(s.maker, "before delete of booking")
	s.Server.Exec("postgres", "alter table harbor drop column name", "alter table booking alter seats type bigint",
		"alter table crew rename to hands", "create role lookout login password '"+testbed.Password+"'")
	s.Captured()
	by := s.checks(s.prover(), k)
	require.Empty(t, failing(by, proof.Failed, proof.CouldNotRun))
	causes := map[string]string{}
	for _, row := range by[proof.Content].Tables {
		causes[row.Name] = row.Cause
	}
	assert.Equal(t, "as many as live (8 updated since)", causes["public.harbor"])
	assert.Regexp(t, `^3,959 more than live = 3,960 deleted by tx \d+ − 1 inserted since$`, causes["public.booking"], "rewritten since")
	assert.Regexp(t, `^28 more than live = 30 truncated by tx \d+`, causes["public.crew"], "renamed since")

	lookout := s.prover()
	lookout.Access.ConnString = strings.Replace(lookout.Access.ConnString, "user="+testbed.Superuser, "user=lookout", 1)
	by = s.checks(lookout, k)
	require.Len(t, failing(by, proof.Failed, proof.CouldNotRun), 1)
	assert.Contains(t, by[proof.Content].Summary, "could not be read on the live cluster: ERROR: permission denied for table booking")
	s.Server.Stop(host.Fast)
	by = s.checks(s.prover(), k)
	require.Len(t, failing(by, proof.Failed, proof.CouldNotRun), 1)
	assert.Contains(t, by[proof.Content].Summary, "check host, port and that it is running")
	for _, when := range []string{"reading the pages", "reading public.booking"} {
		d := &deadly{Report: task.Silent, s: s, k: s.Copy(s.maker, "before delete of booking"), when: when}
		_, err := s.prover().Run(ctx, d.k, d)
		assert.ErrorContains(t, err, "its server ended meanwhile; its log ends:", when)
		assert.True(t, d.done, when)
	}
}
