package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/core/readiness"
	"velvetrewind/testbed"
)

// stage is a bed with a cluster that is worth protecting and the service beside it.
type stage struct {
	*testbed.Bed
	ferries *testbed.Postgres
	service *testbed.Service
	db      *pgx.Conn
}

const rolePassword = "what only velvet knows"

// newStage starts a cluster with a tablespace, a configuration file outside of its
// data directory and a role for Velvet Rewind, and the service.
func newStage(t *testing.T, serve ...string) *stage { return newStageOn(testbed.New(t), serve...) }

func newStageOn(b *testbed.Bed, serve ...string) *stage {
	outside := b.Path("ferries.conf")
	require.NoError(b, os.WriteFile(outside, []byte("work_mem = '5MB'\n"), 0o644))
	s := &stage{Bed: b, ferries: b.Postgres("ferries", true, "max_prepared_transactions = 5", "wal_sender_timeout = '5s'",
		"include '"+outside+"'")}
	require.NoError(b, b.Host.MakeDir(b.Path("ferries", "ledger"), 0o700))
	s.ferries.Exec("postgres",
		"create role velvet login replication password '"+rolePassword+"'",
		"grant pg_read_all_data, pg_read_all_settings, pg_read_all_stats, pg_read_server_files to velvet",
		"grant execute on function pg_read_file(text), pg_read_binary_file(text, bigint, bigint, boolean), "+
			strings.Join(readiness.OnlineBackupFunctions(pg.Major(b.Major)), ", ")+" to velvet",
		"create tablespace ledger location '"+b.Path("ferries", "ledger")+"'",
		"create table booking (id int primary key, note text)",
		"create table payment (id int primary key, cents int) tablespace ledger",
		"insert into booking select n, repeat('tide ', n % 50) from generate_series(1, 20000) n",
		"insert into payment select n, n from generate_series(1, 1000) n",
		"create table journal (n int primary key)")
	s.db = s.ferries.Connect("postgres")
	s.service = b.Service(serve...)
	return s
}

func (s *stage) protect() {
	r := s.service.VelvetWith(rolePassword+"\n", "cluster", "add", "ferries", "--connect", s.ferries.DSN("velvet", "postgres"),
		"--password-file", "-", "--no-base")
	require.Zero(s, r.Code, r.Err)
	require.NotContains(s, r.Out, "needed:")
	s.streaming()
}

func (s *stage) cluster() api.Cluster {
	var k api.Cluster
	s.service.JSON(&k, "cluster", "show", "ferries")
	return k
}

func (s *stage) streaming() {
	s.Eventually("capture streams", func() bool { return s.cluster().Capture.State == "streaming" })
}

// captured waits until capture holds all that was committed until now.
func (s *stage) captured() {
	at, err := pg.ParseLSN(testbed.One[string](s.Bed, s.db, "select pg_current_wal_flush_lsn()::text"))
	require.NoError(s, err)
	s.Eventually("capture is complete", func() bool { return s.cluster().Capture.Flushed >= at })
}

// indexes lists the index objects in the store, and tells whether every segment that is
// finished is there and has one.
func (s *stage) indexes() (paths []string, complete bool) {
	k := s.cluster()
	list := func(kind string) []string {
		paths, err := filepath.Glob(s.Path("home", "store", "clusters", k.ID, kind, "00000001", strings.Repeat("[0-9A-F]", 24)))
		require.NoError(s, err)
		return paths
	}
	paths = list("journal")
	return paths, len(paths) == len(list("wal")) && k.Capture.Stored+16<<20 > k.Capture.Flushed
}

// commit inserts a number into the journal and returns the transaction's id.
func (s *stage) commit(n int) string {
	return testbed.One[string](s.Bed, s.db, "with i as (insert into journal values ($1)) select pg_current_xact_id()::text", n)
}

// refused runs a command that must fail with a code and say certain things.
func (s *stage) refused(code int, says []string, args ...string) {
	s.Helper()
	r := s.service.Velvet(args...)
	assert.Equal(s, code, r.Code, "velvet %s\n%s%s", strings.Join(args, " "), r.Out, r.Err)
	for _, text := range says {
		assert.Contains(s, r.Err, text, "velvet %s", strings.Join(args, " "))
	}
}

// restore makes a copy and opens a session on it.
func (s *stage) restore(moment string) (api.Copy, *pgx.Conn) {
	s.Helper()
	return s.stands(moment, "restore", "start", "ferries", moment)
}

// step moves a copy and opens a session on it.
func (s *stage) step(k api.Copy, moment string) (api.Copy, *pgx.Conn) {
	s.Helper()
	return s.stands(moment, "copy", "step", k.ID, moment)
}

// stands runs a command after which a copy stands at a moment.
func (s *stage) stands(moment string, command ...string) (api.Copy, *pgx.Conn) {
	s.Helper()
	var k api.Copy
	s.service.JSON(&k, command...)
	require.Equal(s, "paused", k.State)
	require.Equal(s, moment, k.Moment)
	require.Equal(s, k.Plan.Boundary.End, k.Replayed, "replay stopped where it was planned, %s", moment)
	conn := s.connect(k.Port, "postgres")
	s.Cleanup(func() { _ = conn.Close(context.Background()) })
	return k, conn
}

// connect opens a session on a copy.
func (s *stage) connect(port int, database string) *pgx.Conn {
	s.Helper()
	conn, err := pgx.Connect(context.Background(), fmt.Sprintf("host=127.0.0.1 port=%d user=%s password='%s' dbname=%s", port,
		testbed.Superuser, testbed.Password, database))
	require.NoError(s, err, "the original's logins work on the copy")
	return conn
}

func (s *stage) discard(k api.Copy) {
	s.Helper()
	s.service.Must("copy", "discard", k.Name, "--confirm", "ferries")
	require.NoDirExists(s, k.Directory)
}

// discardAll removes the copies that are left.
func (s *stage) discardAll() {
	s.Helper()
	var list []api.Copy
	s.service.JSON(&list, "copy", "list")
	for _, k := range list {
		s.service.Must("copy", "discard", k.ID, "--confirm", "ferries")
	}
}

// commitBefore is a transaction that was committed before the last segment was finished.
func (s *stage) commitBefore() string {
	s.Helper()
	return testbed.One[string](s.Bed, s.db, "select xmin::text from journal where n = 11")
}

func (s *stage) decode(text string, into any) {
	s.Helper()
	require.NoError(s, json.Unmarshal([]byte(text), into), text)
}
