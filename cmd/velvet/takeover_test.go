package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
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

// takeovers lists those of the cluster, newest first.
func (s *stage) takeovers() (list []api.Takeover) {
	s.service.JSON(&list, "restore", "takeover", "history", "ferries")
	return list
}

// back opens a session on the cluster, which has been taken over, and sees what it holds.
func (s *stage) serves(numbers string, bookings int) {
	s.Helper()
	s.db = s.ferries.Connect("postgres")
	assert.Equal(s, numbers, testbed.One[string](s.Bed, s.db, numbersOf))
	assert.Equal(s, bookings, testbed.One[int](s.Bed, s.db, "select count(*) from booking"))
	assert.Equal(s, 1000, testbed.One[int](s.Bed, s.db, "select count(*) from payment"), "what lies in a tablespace")
}

// TestTakeover rewinds a cluster where it stands to before an accident, goes on, and rewinds the takeover itself.
func TestTakeover(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.take()
	s.commit(1)
	accident := testbed.One[string](s.Bed, s.db, "with d as (delete from booking) select pg_current_xact_id()::text")
	later := s.commit(2)
	s.captured()
	k, conn := s.restore("before tx " + accident)
	require.NoError(t, conn.Close(context.Background()))

	s.Eventually("the incident is told", func() bool { return len(s.cluster().Incidents) == 1 })

	plan := s.service.Must("restore", "takeover", k.Name, "--plan")
	for _, says := range []string{s.ferries.DataDir, "velvet-aside", "by pg_ctl", "session of " + testbed.Superuser, "tx " + accident,
		"The way back"} {
		assert.Contains(t, plan, says)
	}
	s.refused(3, []string{"verdict: passed", "2 transactions", "confirm with the cluster's name: ferries"}, "restore", "takeover", k.Name)
	s.refused(3, []string{"ferries"}, "restore", "takeover", k.Name, "--confirm", "atlantis")
	s.serves("1,2", 0) // nothing was touched
	s.ferries.Exec("postgres", "alter system set work_mem = '7MB'", "select pg_reload_conf()")
	// Somebody comes again and again; they must never get in where the bookings are not there.
	stop := make(chan struct{})
	early := make(chan string, 1)
	go func() { early <- s.knock(stop) }()

	out := s.service.Must("restore", "takeover", k.Name, "--confirm", "ferries")
	for _, step := range []string{"opening: done", "stopping: done", "setting aside: done", "placing: done",
		"starting: done"} {
		assert.Contains(t, out, step)
	}
	s.serves("1", 20000)
	close(stop)
	assert.Empty(t, <-early)
	assert.Equal(t, "7MB", testbed.One[string](s.Bed, s.db, "show work_mem"), "the configuration of today")
	list := s.takeovers()
	require.Len(t, list, 1)
	assert.Equal(t, "in service", list[0].Step)
	for _, dir := range list[0].Aside {
		assert.DirExists(t, dir)
	}
	assert.NoDirExists(t, k.Directory, "nothing is left of the copy's directory")

	// What follows by itself: capture along the new timeline, and a base backup.
	s.streaming()
	s.Eventually("a base backup of the new timeline is complete", func() bool {
		return s.cluster().Capture.Timeline == 2 && len(s.active()) == 0
	})
	assert.Empty(t, s.cluster().Incidents, "what was undone needs nobody")
	own := s.commit(3)
	s.captured()
	assert.Empty(t, s.cluster().Holes)
	k, conn = s.restore("tx " + own)
	assert.Equal(t, "1,3", testbed.One[string](s.Bed, conn, numbersOf))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)

	// The takeover is rewound: to what the old timeline had last.
	moment := "tx " + later + " on timeline 1"
	s.refused(1, []string{"could not run"}, "restore", "takeover", "ferries", moment, "--confirm", "ferries") // beside another history
	var copies []api.Copy
	s.service.JSON(&copies, "copy", "list")
	require.Len(t, copies, 1, "the copy stands; only the takeover was refused")
	var back api.Takeover
	s.service.JSON(&back, "restore", "takeover", copies[0].Name, "--plan")
	assert.EqualValues(t, 1, back.Plan.Cost.Transactions, "what was committed on the new timeline, not what was on the old one")
	s.service.Must("restore", "takeover", copies[0].Name, "--confirm", "ferries", "--despite-proof")
	s.serves("1,2", 0)
	s.streaming()
	s.Eventually("capture is on the third timeline", func() bool { return s.cluster().Capture.Timeline == 3 && len(s.active()) == 0 })
	s.commit(4)
	s.captured()

	old := s.takeovers()[1]
	require.NotNil(t, old.KeptUntil)
	assert.Equal(t, 7*24*time.Hour, old.KeptUntil.Sub(*old.EndedAt))
	s.refused(3, []string{"removed for good"}, "restore", "takeover", "clear", old.ID)
	s.service.Must("restore", "takeover", "clear", old.ID, "--confirm", "ferries")
	for _, dir := range old.Aside {
		assert.NoDirExists(t, dir)
	}
	assert.Contains(t, s.service.Must("restore", "takeover", "history", "ferries"), "removed")
	s.serves("1,2,4", 0)
	assert.Contains(t, s.service.Must("trail", "--cluster", "ferries"), "take over")
}

// knock calls at the original's door until stop, and says if it was let in where neither the original serves nor what took over.
func (s *stage) knock(stop chan struct{}) string {
	for {
		select {
		case <-stop:
			return ""
		case <-time.After(10 * time.Millisecond):
		}
		conn, err := pgx.Connect(context.Background(), s.ferries.DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
		if err != nil {
			continue
		}
		var recovering bool
		var bookings int
		err = conn.QueryRow(context.Background(), "select pg_is_in_recovery(), (select count(*) from booking)").Scan(&recovering, &bookings)
		_ = conn.Close(context.Background())
		if err == nil && (recovering || bookings != 0 && bookings != 20000) {
			return fmt.Sprintf("let in with %d bookings, recovering: %v", bookings, recovering)
		}
	}
}

// TestTakeoverThatCannotBe has what stands in the way told, before anything is touched.
func TestTakeoverThatCannotBe(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.take()
	s.commit(1)
	s.captured()
	k, conn := s.restore("latest")
	require.NoError(t, conn.Close(context.Background()))
	s.service.Must("copy", "open", k.Name)
	s.refused(1, []string{"only a paused one takes over"}, "restore", "takeover", k.Name, "--confirm", "ferries")
	s.discard(k)
	k, conn = s.restore("latest")
	require.NoError(t, conn.Close(context.Background()))
	s.ferries.Stop("fast")
	require.NoError(t, os.Rename(s.ferries.DataDir, s.ferries.DataDir+".elsewhere"))
	assert.Contains(t, s.service.Must("restore", "takeover", k.Name, "--plan"), "its directory is lost")
	require.NoError(t, os.Rename(s.ferries.DataDir+".elsewhere", s.ferries.DataDir))
	s.ferries.Start()
	s.db = s.ferries.Connect("postgres")

	// Where the proof does not pass, the original is not touched either, unless that is asked for.
	s.ferries.Exec("postgres", "create role purser login", "grant select on journal to purser")
	s.captured()
	s.service.Must("copy", "discard", k.Name, "--confirm", "ferries")
	k, conn = s.restore("latest")
	require.NoError(t, conn.Close(context.Background()))
	s.service.Must(s.check("empty", "select * from journal", "no rows")...)
	s.refused(1, []string{"the verdict on the copy is: failed"}, "restore", "takeover", k.Name, "--confirm", "ferries")
	s.serves("1", 20000)
	s.service.Must("restore", "takeover", k.Name, "--confirm", "ferries", "--despite-proof")
	s.serves("1", 20000)
	s.service.Must("prove", "checks", "remove", "ferries", "empty")

	// The machine's disk is lost: everything that was captured comes back.
	s.streaming()
	s.Eventually("a base backup of the new timeline is complete", func() bool { return len(s.active()) == 0 })
	s.commit(2)
	s.captured()
	s.ferries.Kill()
	require.NoError(t, os.RemoveAll(s.ferries.DataDir))
	out := s.service.Must("restore", "takeover", "ferries", "latest", "--confirm", "ferries")
	assert.Contains(t, out, "starting: done")
	s.serves("1,2", 20000)
}

// TestWhatACrashedServerWroteLast has a server be killed whose last WAL did not reach capture any more: it is taken from the
// server's own directory, also for another instance, capture goes on from there when it is started again, and a takeover has all of it.
func TestWhatACrashedServerWroteLast(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--adopt-store")
	way := s.protectOver(t)
	s.commit(1)
	s.captured()
	crash := func(from, to int) {
		way.mute.Store(true)
		for n := from; n < to; n++ {
			s.commit(n)
		}
		s.grow(2)
		s.commit(to)
		end, err := pg.ParseLSN(testbed.One[string](s.Bed, s.db, "select pg_current_wal_flush_lsn()::text"))
		require.NoError(t, err)
		require.Less(t, s.cluster().Capture.Flushed, end, "not all of it was sent")
		require.NoError(t, s.db.Close(context.Background()))
		s.ferries.Kill()
		way.mute.Store(false)
		s.Eventually("what it wrote last is here", func() bool { return s.cluster().Capture.Flushed >= end })
	}
	crash(2, 9)
	other := s.service.Another("second-home")
	other.Start()
	for _, service := range []*testbed.Service{s.service, other} {
		var k api.Copy
		service.JSON(&k, "restore", "start", "ferries", "latest")
		conn := s.connect(k.Port, "postgres")
		assert.Equal(t, "1,2,3,4,5,6,7,8,9", testbed.One[string](s.Bed, conn, numbersOf))
		require.NoError(t, conn.Close(context.Background()))
		service.Must("copy", "discard", k.Name, "--confirm", "ferries")
	}
	other.Stop()

	s.ferries.Start()
	s.db = s.ferries.Connect("postgres")
	s.streaming()
	s.commit(10)
	s.captured()
	crash(11, 12)
	require.Empty(t, s.cluster().Holes)
	out := s.service.Must("restore", "takeover", "ferries", "latest", "--confirm", "ferries", "--quick")
	assert.NotContains(t, out, "alone", "nothing is left behind")
	assert.Contains(t, out, "commit log: passed")
	assert.NotContains(t, out, "pages: passed")
	assert.Nil(t, s.cluster().LastProof, "the quick checks are no proof")
	s.serves("1,2,3,4,5,6,7,8,9,10,11,12", 20000)
}

// TestLaidOver has copies laid over the original's own files: with the word alone; not while its last WAL is not captured; killed in
// the middle, and laid over anew; and in service at last with the configuration of its last day.
func TestLaidOver(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "create table cargo as select n, repeat('~', 300) as note from generate_series(1, 200000) n")
	s.protect()
	s.take()
	s.commit(1)
	accident := testbed.One[string](s.Bed, s.db, "with d as (delete from booking) select pg_current_xact_id()::text")
	s.captured()
	over := []string{"restore", "start", "ferries", "before tx " + accident, "--over-original"}
	s.refused(3, []string{s.ferries.DataDir, "confirm with the cluster's name"}, over...)
	over = append(over, "--confirm", "ferries")
	s.service.Must("capture", "stop", "ferries")
	s.Eventually("capture has stopped", func() bool { return s.cluster().Capture.State == "stopped" })
	s.refused(1, []string{"lost for ever", "velvet capture start ferries"}, over...)
	s.service.Must("capture", "start", "ferries")
	s.streaming()
	s.serves("1", 0)
	s.ferries.Exec("postgres", "alter system set work_mem = '7MB'")
	last := s.commit(2) // which is captured as the server stops

	var task api.Task
	s.service.JSON(&task, append(over, "--detach")...)
	var k api.Copy
	s.Eventually("it is being laid over", func() bool {
		_, err := os.Stat(s.ferries.DataDir)
		s.service.JSON(&k, "copy", "show", task.Subject)
		return os.IsNotExist(err) && k.State == "laying out"
	})
	s.service.Kill()
	assert.NoDirExists(t, s.ferries.DataDir)
	s.service.Start()
	s.Eventually("it is known what became of it", func() bool {
		s.service.JSON(&k, "copy", "show", task.Subject)
		return k.State == "down"
	})
	assert.Contains(t, k.Problem, "velvet copy step")
	s.service.JSON(&k, "copy", "step", k.Name, "before tx "+accident)
	assert.Equal(t, "paused", k.State)
	assert.Contains(t, s.service.Must("task", "show", k.Task), "stood there already")
	s.service.Must("restore", "takeover", k.Name, "--confirm", "ferries")
	s.serves("1", 20000)
	assert.Equal(t, "7MB", testbed.One[string](s.Bed, s.db, "show work_mem"), "the configuration of its last day")
	s.streaming()
	s.Eventually("capture is on the new timeline", func() bool { return s.cluster().Capture.Timeline == 2 && len(s.active()) == 0 })
	other, conn := s.restore("tx " + last + " on timeline 1")
	assert.Equal(t, "1,2", testbed.One[string](s.Bed, conn, numbersOf))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(other)

	// In one go.
	s.service.Must("restore", "takeover", "ferries", "latest", "--over-original", "--confirm", "ferries")
	s.serves("1", 20000)
	assert.Empty(t, s.takeovers()[1].Aside)
}

// TestClientsAreRefused has clients be refused from the beginning of a takeover: they are, until it ends, whichever way; their session
// ends; and what stood in pg_hba.conf stands there again.
func TestClientsAreRefused(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "grant pg_signal_backend to velvet", "create role clerk login password '"+testbed.Password+"'")
	hba := filepath.Join(s.ferries.DataDir, "pg_hba.conf")
	before, err := os.ReadFile(hba)
	require.NoError(t, err)
	s.protect()
	s.take()
	s.commit(1)
	s.captured()
	k, conn := s.restore("latest")
	require.NoError(t, conn.Close(context.Background()))
	s.service.Must("prove", "run", k.Name)
	clerk := func() error {
		c, err := pgx.Connect(context.Background(), s.ferries.DSN("clerk", "postgres")+" password='"+testbed.Password+"'")
		if err == nil {
			err = c.Close(context.Background())
		}
		return err
	}
	require.NoError(t, clerk())
	in, err := pgx.Connect(context.Background(), s.ferries.DSN("clerk", "postgres")+" password='"+testbed.Password+"'")
	require.NoError(t, err)
	defer func() { _ = in.Close(context.Background()) }()

	// It is not let get on, and is cancelled then.
	first := s.firstOf(k)
	t.Cleanup(func() { _ = syscall.Kill(first, syscall.SIGCONT) })
	require.NoError(t, syscall.Kill(first, syscall.SIGSTOP))
	var task api.Task
	s.service.JSON(&task, "restore", "takeover", k.Name, "--confirm", "ferries", "--refuse-clients", "--detach")
	s.Eventually("clients are refused", func() bool { return clerk() != nil })
	assert.ErrorContains(t, clerk(), "no pg_hba.conf entry")
	s.Eventually("its session has ended", func() bool {
		_, err := in.Exec(context.Background(), "select 1")
		return err != nil
	})
	s.streaming()
	s.service.Must("task", "cancel", task.ID)
	require.NoError(t, syscall.Kill(first, syscall.SIGCONT))
	s.Eventually("it serves as before", func() bool { return s.takeovers()[0].EndedAt != nil })
	require.NoError(t, clerk())
	after, err := os.ReadFile(hba)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))

	s.service.Must("restore", "takeover", "ferries", "latest", "--confirm", "ferries", "--refuse-clients")
	require.NoError(t, clerk())
	after, err = os.ReadFile(hba)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
	left, err := filepath.Glob(hba + "?*")
	require.NoError(t, err)
	assert.Empty(t, left)
}

// firstOf is the first process of a copy's server.
func (s *stage) firstOf(k api.Copy) int {
	pid, err := s.Host.PID(host.Server{DataDir: filepath.Join(k.Directory, "data")})
	require.NoError(s, err)
	return pid
}
