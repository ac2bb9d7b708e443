package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/testbed"
)

func TestEndToEnd(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	t.Run("a cluster is registered only if it can be protected", s.registration)
	s.protect()
	t.Run("what is out of reach is said", s.beforeTheFirstBase)
	t.Run("a base backup", s.baseBackup)
	t.Run("a killed service loses nothing", s.killedInCapture)
	t.Run("a killed backup leaves nothing", s.killedInBackup)
	t.Run("moments", s.moments)
	t.Run("bad moments", s.badMoments)
	t.Run("a copy is opened, proved and discarded", s.openAndDiscard)
	t.Run("a damaged proof fails", s.failedProof)
	t.Run("segments come from the store while the service is down", s.deliverAlone)
	t.Run("damage in the store ends a restore", s.damagedStore)
	t.Run("capture stops and goes on", s.stopAndGoOn)
}

func (s *stage) registration(t *testing.T) {
	s.ferries.Exec("postgres", "create role plain login password 'plain'")
	add := func(name, conn string) []string {
		return []string{"cluster", "add", name, "--connect", conn, "--password-file", "-", "--no-base"}
	}
	for _, c := range []struct {
		name, conn, password string
		code                 int
		says                 []string
	}{
		{"ferries", s.ferries.DSN("velvet", "postgres"), "wrong", 1, []string{"refused the login", "check the user and the password"}},
		{"ferries", strings.Replace(s.ferries.DSN("velvet", "postgres"), fmt.Sprint(s.ferries.Port), "1", 1), rolePassword, 1,
			[]string{"cannot be reached", "check host, port"}},
		{"ferries", s.ferries.DSN("velvet", "nowhere"), rolePassword, 1, []string{"name an existing database"}},
		{"ferries", s.ferries.DSN("plain", "postgres"), "plain", 1, []string{"lacks the replication right",
			`ALTER ROLE "plain" REPLICATION;`}},
		{"ferries", s.ferries.DSN("velvet", "postgres") + " password=x", "", 1, []string{"holds a password"}},
		{"ferries", "postgres://velvet:x@127.0.0.1/postgres", "", 1, []string{"holds a password"}},
		{"ferries", "gibberish", "", 1, []string{"connection string"}},
		{"Ferries!", s.ferries.DSN("velvet", "postgres"), rolePassword, 1, []string{`"Ferries!" cannot be a cluster's name`}},
	} {
		r := s.service.VelvetWith(c.password, add(c.name, c.conn)...)
		assert.Equal(t, c.code, r.Code, c.conn)
		for _, text := range c.says {
			assert.Contains(t, r.Err, text, c.conn)
		}
	}
	assert.Contains(t, s.service.Must("cluster", "list"), "No cluster is protected yet", "nothing was left of it")
	s.refused(2, []string{"required flag"}, "cluster", "add", "ferries")
	s.refused(2, []string{"unknown command"}, "clusters")
	s.refused(2, []string{"accepts 1 arg"}, "cluster", "show")
	s.refused(2, []string{"choose table or json"}, "cluster", "list", "--output", "xml")
	s.refused(1, []string{"no such cluster", "velvet cluster list"}, "cluster", "show", "atlantis")

	poor := s.Postgres("poor", false, "wal_level = minimal", "max_wal_senders = 0", "max_replication_slots = 0")
	r := s.service.VelvetWith(testbed.Password, add("poor", poor.DSN(testbed.Superuser, "postgres"))...)
	assert.Equal(t, 1, r.Code)
	for _, text := range []string{"wal_level: minimal", "ALTER SYSTEM SET wal_level = 'replica';", "WAL senders: 0 of 0 free",
		"slots: 0 of 0 free", "restart the server"} {
		assert.Contains(t, r.Err, text)
	}
	poor.Stop("immediate")
}

func (s *stage) beforeTheFirstBase(t *testing.T) {
	r := s.service.VelvetWith(rolePassword, "cluster", "add", "ferries", "--connect", s.ferries.DSN("velvet", "postgres"),
		"--password-file", "-", "--no-base")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, `a cluster named "ferries" already`)
	s.refused(1, []string{"out of reach", "no base backup", "velvet backup take ferries"}, "restore", "start", "ferries", "latest")
	s.refused(3, []string{"confirm with the cluster's name"}, "cluster", "remove", "ferries")
	s.ferries.Exec("postgres", "revoke pg_read_all_data, pg_read_server_files from velvet")
	ready := s.service.Must("cluster", "ready", "ferries")
	assert.Contains(t, ready, `GRANT pg_read_all_data TO "velvet";`)
	assert.Contains(t, ready, "GRANT pg_read_all_settings, pg_read_server_files")
	s.ferries.Exec("postgres", "grant pg_read_all_data, pg_read_server_files to velvet")
	content, err := os.ReadFile(s.Path("service.log"))
	require.NoError(t, err)
	assert.NotContains(t, string(content), rolePassword)
	assert.NotContains(t, s.service.Must("cluster", "show", "ferries", "--output", "json"), rolePassword)
}

func (s *stage) baseBackup(t *testing.T) {
	tx, err := s.db.Begin(context.Background()) // a transaction that is open all the while
	require.NoError(t, err)
	_, err = tx.Exec(context.Background(), "insert into journal values (-1)")
	require.NoError(t, err)
	var begun api.Task
	s.service.JSON(&begun, "backup", "take", "ferries", "--checkpoint", "spread", "--detach") // a spread checkpoint: it takes its time
	s.refused(1, []string{"no second backup was begun", "under way already"}, "backup", "take", "ferries")
	s.service.Must("task", "cancel", begun.ID)
	s.Eventually("the backup is cancelled", func() bool { return strings.Contains(s.service.Must("task", "show", begun.ID), "cancelled") })
	assert.Contains(t, s.service.Must("backup", "list", "ferries"), "no base backup yet")
	s.refused(1, []string{"ended already"}, "task", "cancel", begun.ID)

	out := s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	for _, text := range []string{"manifest agrees", "every page checksum is right", "capture holds the WAL",
		"ferries.conf, which lies outside", "tablespace "} {
		assert.Contains(t, out, text)
	}
	require.NoError(t, tx.Commit(context.Background()))
	var list []api.Backup
	s.service.JSON(&list, "backup", "list", "ferries")
	require.Len(t, list, 1)
	assert.Greater(t, list[0].Pages, int64(500))
	assert.Less(t, list[0].BytesStored, list[0].BytesRead/2)
	assert.Contains(t, s.service.Must("backup", "show", list[0].ID), list[0].Stop.String())
	s.refused(1, []string{"no such base backup"}, "backup", "show", "nothing")
	s.refused(1, []string{"it has 1 base backups"}, "cluster", "remove", "ferries", "--confirm", "ferries")
}

// pgbench writes WAL until the returned function is called.
func (s *stage) pgbench(t *testing.T) (stop func()) {
	init := s.ferries.Program("pgbench", "-i", "-q", "-s", "5", "postgres")
	out, err := init.CombinedOutput()
	require.NoError(t, err, string(out))
	load := s.ferries.Program("pgbench", "-c", "2", "-T", "900", "-n", "postgres")
	require.NoError(t, load.Start())
	return func() {
		_ = load.Process.Signal(syscall.SIGINT)
		_ = load.Wait()
	}
}

func (s *stage) killedInCapture(t *testing.T) {
	stop := s.pgbench(t)
	defer stop()
	for n := range 3 {
		before := s.cluster().Capture.Flushed
		s.Eventually("WAL arrives", func() bool { return s.cluster().Capture.Flushed > before+6<<20 })
		s.service.Kill()
		s.commit(100 + n) // while nobody captures
		s.service.Start()
		s.streaming()
	}
	stop()
	s.captured()
	k := s.cluster()
	assert.Empty(t, k.Holes)
	require.Len(t, k.Reach, 1)
	s.Eventually("every finished segment is in the store", func() bool {
		c := s.cluster().Capture
		return c.Stored+16<<20 > c.Flushed
	})
	z := pg.DefaultSegmentSize
	var list []api.Backup
	s.service.JSON(&list, "backup", "list", "ferries")
	for n := z.Number(list[0].Start); n < z.Number(s.cluster().Capture.Stored); n++ {
		name := pg.Segment{Timeline: 1, Number: n}.Name(z)
		assert.FileExists(t, s.Path("home", "store", "clusters", k.ID, "wal", "00000001", name))
	}
}

func (s *stage) killedInBackup(t *testing.T) {
	below := s.Path("home", "store", "clusters", s.cluster().ID)
	written := func(id string) bool {
		found, _ := filepath.Glob(filepath.Join(below, "packs", id+"-*"))
		return len(found) > 0
	}
	var begun api.Task
	s.service.JSON(&begun, "backup", "take", "ferries", "--checkpoint", "fast", "--kind", "full", "--detach")
	s.Eventually("a pack is being written", func() bool { return written(begun.Subject) })
	s.service.Kill()
	s.service.Start()
	s.Eventually("the task is known to have been interrupted", func() bool {
		return strings.Contains(s.service.Must("task", "show", begun.ID), "the service ended while it ran")
	})
	var list []api.Backup
	s.service.JSON(&list, "backup", "list", "ferries")
	assert.Len(t, list, 1)
	assert.NoDirExists(t, filepath.Join(below, "bases", begun.Subject))
	assert.False(t, written(begun.Subject), "its packs are gone too")
	s.streaming()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.service.JSON(&list, "backup", "list", "ferries")
	assert.Len(t, list, 2)
}

const numbers = "select coalesce(string_agg(n::text, ',' order by n), '') from journal where n between 1000 and 1999"

// moments restores to moments around transactions of several kinds and compares with what was done.
func (s *stage) moments(t *testing.T) {
	first := s.commit(1000)
	between := testbed.One[string](s.Bed, s.db, "select pg_current_wal_insert_lsn()::text")
	tx, err := s.db.Begin(context.Background())
	require.NoError(t, err)
	_, err = tx.Exec(context.Background(), "insert into journal values (1001)")
	require.NoError(t, err)
	twoPhase := testbed.One[string](s.Bed, s.db, "select pg_current_xact_id()::text")
	_, err = tx.Exec(context.Background(), "prepare transaction 'ebb'")
	require.NoError(t, err)
	_ = tx.Rollback(context.Background())
	s.commit(1002)
	_, err = s.db.Exec(context.Background(), "commit prepared 'ebb'")
	require.NoError(t, err)

	sub := func() string {
		nested, err := s.db.Begin(context.Background())
		require.NoError(t, err)
		_, err = nested.Exec(context.Background(), "insert into journal values (1003)")
		require.NoError(t, err)
		point, err := nested.Begin(context.Background())
		require.NoError(t, err)
		_, err = point.Exec(context.Background(), "insert into journal values (1004)")
		require.NoError(t, err)
		id := testbed.One[string](s.Bed, s.db, "select xmin::text from journal where n = 1004")
		require.NoError(t, point.Commit(context.Background()))
		require.NoError(t, nested.Commit(context.Background()))
		return id
	}()
	time.Sleep(50 * time.Millisecond) // so that the clock has moved between the two commits
	noon := testbed.One[time.Time](s.Bed, s.db, "select clock_timestamp()")
	time.Sleep(50 * time.Millisecond)
	deleted := testbed.One[string](s.Bed, s.db, "with d as (delete from journal where n >= 1000) select pg_current_xact_id()::text")
	s.commit(1005)
	s.captured()

	all := "1000,1001,1002,1003,1004"
	for _, c := range []struct{ moment, numbers string }{
		{"before tx " + first, ""},
		{"tx " + first, "1000"},
		{"before lsn " + between, "1000"},
		{"before tx " + twoPhase, "1000,1002"},
		{"tx " + twoPhase, "1000,1001,1002"},
		{"before tx " + sub, "1000,1001,1002"},
		{"tx " + sub, all},
		{noon.UTC().Format(time.RFC3339Nano), all},
		{"before tx " + deleted, all},
		{"tx " + deleted, ""},
		{"latest", "1005"},
	} {
		k, conn := s.restore(c.moment)
		assert.Equal(t, c.numbers, testbed.One[string](s.Bed, conn, numbers), c.moment)
		assert.Equal(t, 3, testbed.One[int](s.Bed, conn, "select count(*) from journal where n between 100 and 102"),
			"what was committed while the service was dead")
		_, err := conn.Exec(context.Background(), "insert into journal values (7)")
		assert.ErrorContains(t, err, "read-only", c.moment)
		out := s.service.Must("prove", "run", k.ID)
		assert.Contains(t, out, "verdict: passed", c.moment)
		assert.Contains(t, out, "public.payment")
		s.discard(k)
	}
}

func (s *stage) badMoments(t *testing.T) {
	rolledBack := func() string {
		tx, err := s.db.Begin(context.Background())
		require.NoError(t, err)
		id := testbed.One[string](s.Bed, s.db, "with i as (insert into journal values (-2)) select pg_current_xact_id()::text")
		require.NoError(t, tx.Rollback(context.Background()))
		return id
	}()
	s.commit(2000)
	s.captured()
	for moment, says := range map[string][]string{
		"before tx " + rolledBack: {"was rolled back", "Ask for the place instead: before lsn"},
		"before tx 1999999999":    {"out of reach", "has not begun", "Within reach: ", "on timeline 1"},
		"lsn 7F/0":                {"beyond the captured WAL", "Within reach"},
		"lsn 0/28":                {"before the captured WAL"},
		"before lsn 0/1800000":    {"no base backup ends at or before"},
		"2020-01-01T00:00:00Z":    {"out of reach", "Within reach"},
		"2036-01-01T00:00:00Z":    {"beyond the captured WAL"},
		"2026-11-23 14:63:07":     {"not a time of day", "           ^"},
		"before delete":           {"             ^", "\"of\" and a table are missing"},
		"restore point high tide": {"no restore point", "pg_create_restore_point"},
		"base 01jnowhere":         {"no base backup", "velvet backup list"},
		"before drop of booking":  {"no transaction in the captured WAL dropped booking", "velvet changes list ferries --table booking"},
	} {
		s.refused(1, says, "restore", "plan", "ferries", moment)
		s.refused(1, says, "restore", "start", "ferries", moment)
	}
	s.refused(1, []string{"listens on port", "--port"}, "restore", "start", "ferries", "latest", "--port", fmt.Sprint(s.ferries.Port))
	s.refused(1, []string{"no such cluster"}, "restore", "start", "atlantis", "latest")
	s.refused(1, []string{"no such copy", "velvet copy list"}, "copy", "show", "nothing")
	s.refused(1, []string{"no such task"}, "task", "show", "nothing")
	assert.Contains(t, s.service.Must("copy", "list"), "There is no copy")
	left, err := filepath.Glob(s.Path("home", "copies", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func (s *stage) openAndDiscard(t *testing.T) {
	port, err := s.Host.FreePort()
	require.NoError(t, err)
	var k api.Copy
	s.service.JSON(&k, "restore", "start", "ferries", "latest", "--port", fmt.Sprint(port))
	assert.Equal(t, port, k.Port)
	saved, err := os.ReadFile(filepath.Join(k.Directory, "original-configuration", "files", s.Path("ferries.conf")))
	require.NoError(t, err)
	assert.Equal(t, "work_mem = '5MB'\n", string(saved), "a configuration file from outside the data directory")
	assert.FileExists(t, filepath.Join(k.Directory, "original-configuration", "postgresql.conf"))
	s.service.Must("copy", "open", k.ID)
	assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")
	conn := s.connect(port, "postgres")
	_, err = conn.Exec(context.Background(), "insert into journal values (-7)")
	require.NoError(t, err, "an open copy can be written")
	for setting, want := range map[string]string{"archive_mode": "off", "synchronous_standby_names": "", "listen_addresses": "127.0.0.1",
		"shared_preload_libraries": ""} {
		assert.Equal(t, want, testbed.One[string](s.Bed, conn, "select current_setting($1)", setting), setting)
	}
	require.NoError(t, conn.Close(context.Background()))
	assert.Equal(t, 0, testbed.One[int](s.Bed, s.db, "select count(*) from journal where n = -7"), "the original does not know of it")
	s.refused(1, []string{"only a paused copy can be opened"}, "copy", "open", k.ID)
	r := s.service.Velvet("prove", "run", k.ID)
	assert.Equal(t, 4, r.Code, "its rows are not those of the original any more")
	assert.Contains(t, r.Out, "1 more than live, but the journal has no change of it since; the copy is open")

	s.service.Stop() // a copy outlives the service
	s.service.Start()
	var again api.Copy
	s.service.JSON(&again, "copy", "show", k.ID)
	assert.Equal(t, "open", again.State)
	s.refused(3, []string{"not discarded", "confirm with the cluster's name"}, "copy", "discard", k.ID)
	s.refused(3, []string{"not discarded"}, "copy", "discard", k.ID, "--confirm", "ferry")
	s.discard(k)
	s.refused(1, []string{"has been discarded"}, "copy", "open", k.ID)
}

// failedProof damages a page of a copy unseen by its server.
func (s *stage) failedProof(t *testing.T) {
	k, conn := s.restore("latest")
	file := testbed.One[string](s.Bed, conn, "select pg_relation_filepath('payment')")
	require.NoError(t, conn.Close(context.Background()))
	f, err := os.OpenFile(filepath.Join(k.Directory, "data", file), os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("low tide"), 3*pg.BlockSize+4000)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	r := s.service.Velvet("prove", "run", k.ID)
	assert.Equal(t, 4, r.Code, "a failed proof has an exit code of its own")
	assert.Contains(t, r.Out, "verdict: failed")
	assert.Contains(t, r.Out, "block 3: checksum")
	assert.Equal(t, 4, s.service.Velvet("prove", "show", k.ID).Code)
	s.discard(k)
}

// deliverAlone calls `segment deliver` as a recovering server does.
func (s *stage) deliverAlone(t *testing.T) {
	k, conn := s.restore("latest")
	require.NoError(t, conn.Close(context.Background()))
	s.service.Stop()
	defer s.service.Start()
	p := k.Plan
	into := filepath.Join(k.Directory, "data", "pg_wal", "DELIVERED")
	deliver := func(name string) (string, int) {
		cmd := exec.Command(s.Path("home", "program", "velvet"), "segment", "deliver", "--ticket",
			filepath.Join(k.Directory, "ticket.json"), name, into)
		cmd.SysProcAttr = s.asServers(filepath.Join(k.Directory, "data"))
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	out, code := deliver(p.First)
	require.Zero(t, code, out)
	info, err := os.Stat(into)
	require.NoError(t, err)
	assert.Equal(t, int64(pg.DefaultSegmentSize), info.Size())
	_, code = deliver("0000000100000FFF00000001")
	assert.Equal(t, 1, code, "past the end there is nothing, which is normal")
	_, code = deliver("00000009.history")
	assert.Equal(t, 1, code)
	stored := s.Path("home", "store", "clusters", s.clusterID(k), "wal", "00000001", p.First)
	require.NoError(t, os.Rename(stored, stored+"x"))
	out, code = deliver(p.First)
	assert.Equal(t, 200, code, "a segment that is needed and missing ends recovery")
	assert.Contains(t, out, "is needed and was not found")
	require.NoError(t, os.Rename(stored+"x", stored))
	s.service.Start()
	s.discard(k)
	s.service.Stop()
}

// asServers runs a program as the OS user that owns the copy.
func (s *stage) asServers(dir string) *syscall.SysProcAttr {
	info, err := os.Stat(dir)
	require.NoError(s, err)
	owner := info.Sys().(*syscall.Stat_t)
	if int(owner.Uid) == os.Getuid() {
		return nil
	}
	return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: owner.Uid, Gid: owner.Gid}}
}

func (s *stage) clusterID(k api.Copy) string {
	found, err := filepath.Glob(s.Path("home", "store", "clusters", "*", "bases", k.Plan.Base))
	require.NoError(s, err)
	require.Len(s, found, 1)
	return filepath.Base(filepath.Dir(filepath.Dir(found[0])))
}

func (s *stage) damagedStore(t *testing.T) {
	var p api.Restore
	s.service.JSON(&p, "restore", "plan", "ferries", "latest")
	pack := s.Path("home", "store", "clusters", s.cluster().ID, "packs", p.Base+"-000001")
	content, err := os.ReadFile(pack)
	require.NoError(t, err)
	damaged := append([]byte(nil), content...)
	damaged[len(damaged)/2] ^= 1
	require.NoError(t, os.WriteFile(pack, damaged, 0o640))
	r := s.service.Velvet("restore", "start", "ferries", "latest")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, "corrupt")
	assert.Contains(t, s.service.Must("copy", "list"), "There is no copy")
	require.NoError(t, os.WriteFile(pack, content, 0o640))
}

func (s *stage) stopAndGoOn(t *testing.T) {
	s.service.Must("capture", "stop", "ferries")
	s.Eventually("the capture stops", func() bool { return s.cluster().Capture.State == "stopped" })
	s.refused(1, []string{"its capture is stopped", "velvet capture start ferries"}, "backup", "take", "ferries")
	xid := s.commit(3000)
	s.service.Must("capture", "start", "ferries")
	s.streaming()
	s.captured()
	assert.Contains(t, s.service.Must("restore", "plan", "ferries", "tx "+xid), "tx "+xid+", committed")
	assert.Contains(t, s.service.Must("reach", "ferries"), "2026")
	assert.Empty(t, s.cluster().Holes)
}
