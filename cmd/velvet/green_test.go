package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/replication"
	"velvetrewind/testbed"
)

// metric reads a metric of the ferries.
func (s *stage) metric(name string) float64 {
	request, err := http.NewRequest(http.MethodGet, s.service.URL+"/metrics", nil)
	require.NoError(s, err)
	token, err := os.ReadFile(s.Path("home", "token"))
	require.NoError(s, err)
	request.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	answer, err := http.DefaultClient.Do(request)
	require.NoError(s, err)
	defer func() { _ = answer.Body.Close() }()
	text, err := io.ReadAll(answer.Body)
	require.NoError(s, err)
	found := regexp.MustCompile(`(?m)^` + name + `\{cluster="ferries"\} (\S+)$`).FindSubmatch(text)
	require.NotNil(s, found, "%s in %s", name, text)
	value, err := strconv.ParseFloat(string(found[1]), 64)
	require.NoError(s, err)
	return value
}

// grow writes some segments of WAL.
func (s *stage) grow(segments int) {
	for range segments {
		s.ferries.Exec("postgres", "update booking set note = note || '.' where id % 500 = 0", "select pg_switch_wal()")
	}
}

// TestNoGreenWhileWrong has a server fall silent and a store refuse: the state, what needs
// attention and the metrics say so, and nothing is lost.
func TestNoGreenWhileWrong(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--spool-limit", "48")
	way := s.protectOver(t)
	before := s.commit(1)
	s.captured()
	s.Eventually("all is well", func() bool { return s.metric("velvet_capture_streaming") == 1 })

	way.mute.Store(true) // and nothing is closed
	s.Eventually("silence is not taken for health", func() bool { return s.cluster().Capture.State != "streaming" })
	assert.Greater(t, s.metric("velvet_capture_complete_age_seconds"), 5.0)
	way.mute.Store(false)
	s.streaming()

	walDir, err := filepath.Glob(s.Path("home", "store", "clusters", "*", "wal"))
	require.NoError(t, err)
	require.Len(t, walDir, 1)
	require.NoError(t, os.Rename(walDir[0], walDir[0]+".away"))
	require.NoError(t, os.WriteFile(walDir[0], nil, 0o600)) // no directory can be made there
	s.grow(2)
	s.Eventually("it waits for the store", func() bool { return s.cluster().Capture.State == "waiting for the store" })
	assert.Contains(t, s.cluster().Capture.Problem, "not a directory")
	s.grow(4)
	s.Eventually("it pauses when the spool is full", func() bool { return s.cluster().Capture.State == "paused" })
	paused := s.cluster().Capture
	assert.Contains(t, paused.Problem, "the spool is full")
	assert.GreaterOrEqual(t, paused.Spooled, int64(48<<20))
	assert.Contains(t, s.service.Must("cluster", "list"), "of WAL wait for the store")
	assert.GreaterOrEqual(t, s.metric("velvet_capture_spooled_bytes"), 48e6)
	last := s.commit(2)
	s.grow(1)
	s.Eventually("what the server retains is told", func() bool { return s.metric("velvet_capture_retained_bytes") > 16e6 })
	assert.Equal(t, 1, testbed.One[int](s.Bed, s.db, "select count(*) from pg_stat_replication where application_name = 'velvet'"),
		"the connection outlives the pause")

	require.NoError(t, os.Remove(walDir[0]))
	require.NoError(t, os.Rename(walDir[0]+".away", walDir[0]))
	s.streaming()
	s.captured()
	s.Eventually("the spool is emptied", func() bool { return s.cluster().Capture.Spooled == 0 })
	assert.Empty(t, s.cluster().Holes)
	for _, c := range []struct {
		xid  string
		rows int
	}{{before, 1}, {last, 2}} {
		k, conn := s.restore("tx " + c.xid)
		assert.Equal(t, c.rows, testbed.One[int](s.Bed, conn, "select count(*) from journal"))
		require.NoError(t, conn.Close(context.Background()))
		s.discard(k)
	}
}

// TestSlotInOtherHands has the slot used by somebody else, dropped and invalidated, and finds the
// spool's files longer and shorter than they were. Where WAL is lost for it, a base backup is taken
// by itself, because the calendar takes them.
func TestSlotInOtherHands(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries")
	s.service.Must("calendar", "add", "backup", "--cluster", "ferries", "--at", "01:30", "--zone", "Europe/Lisbon")
	slot := testbed.One[string](s.Bed, s.db, "select slot_name::text from pg_replication_slots")

	s.service.Must("capture", "stop", "ferries")
	a := access.Access{ConnString: s.ferries.DSN(testbed.Superuser, "postgres"), Password: testbed.Password}
	other, err := replication.Open(context.Background(), a)
	require.NoError(t, err)
	at, err := pg.ParseLSN(testbed.One[string](s.Bed, s.db, "select restart_lsn::text from pg_replication_slots"))
	require.NoError(t, err)
	s.Eventually("the server has noticed that capture left the slot", func() bool {
		return testbed.One[bool](s.Bed, s.db, "select not active from pg_replication_slots")
	})
	stream, err := other.Start(context.Background(), slot, 1, pg.DefaultSegmentSize.Start(pg.DefaultSegmentSize.Number(at)))
	require.NoError(t, err)
	var reports sync.WaitGroup // by which the server knows that the other one is still there
	stay, leave := context.WithCancel(t.Context())
	reports.Go(func() {
		for ; stay.Err() == nil; time.Sleep(time.Second) {
			_ = stream.Report(at, false)
		}
	})
	s.service.Must("capture", "start", "ferries")
	s.Eventually("that somebody else uses the slot is told",
		func() bool { return strings.Contains(s.cluster().Capture.Problem, "is active") })
	leave()
	reports.Wait()
	require.NoError(t, stream.Close())
	s.streaming()
	first := s.commit(1)
	s.captured()
	require.Empty(t, s.cluster().Holes)

	// The spool's cut segment is longer, then shorter, than what was safe.
	for n, spoil := range []func(string, int64) error{
		func(path string, size int64) error { return os.Truncate(path, size+100_000) },
		func(path string, size int64) error { return os.Truncate(path, size/2) },
	} {
		s.service.Stop()
		cut, err := filepath.Glob(s.Path("home", "spool", "*", "*.partial"))
		require.NoError(t, err)
		require.Len(t, cut, 1)
		info, err := os.Stat(cut[0])
		require.NoError(t, err)
		require.NoError(t, spoil(cut[0], info.Size()))
		s.service.Start()
		s.streaming()
		s.commit(10 + n)
		s.captured()
		require.Empty(t, s.cluster().Holes)
	}
	s.grow(2)
	s.captured()
	k, conn := s.restore("latest")
	assert.Equal(t, "1,10,11", testbed.One[string](s.Bed, conn, numbersOf))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)

	// The server gives the slot up, and removes what it held.
	s.service.Stop()
	s.ferries.Exec("postgres", "alter system set max_slot_wal_keep_size = '32MB'", "alter system set min_wal_size = '32MB'",
		"alter system set max_wal_size = '32MB'", "select pg_reload_conf()")
	for range 6 {
		s.grow(1)
		s.ferries.Exec("postgres", "checkpoint")
	}
	require.Equal(t, "lost", testbed.One[string](s.Bed, s.db, "select wal_status from pg_replication_slots"))
	s.ferries.Exec("postgres", "alter system reset max_slot_wal_keep_size", "select pg_reload_conf()")
	s.service.Start()
	s.Eventually("the hole is told", func() bool { return len(s.cluster().Holes) == 1 })
	s.Eventually("a base backup ends it by itself", func() bool { return s.cluster().Holes[0].Until != nil })
	later := s.commit(30)
	s.captured()
	k, conn = s.restore("tx " + later)
	assert.Equal(t, "1,10,11,30", testbed.One[string](s.Bed, conn, numbersOf))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
	k, conn = s.restore("tx " + first)
	assert.Equal(t, "1", testbed.One[string](s.Bed, conn, numbersOf))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
}

// TestLongRecords writes single records far longer than a segment, as any role that may log in can:
// they cost neither memory nor the journal, and what comes after them is reached.
func TestLongRecords(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries")
	s.captured()
	for _, megabytes := range []int{100, 400} {
		s.ferries.Exec("postgres", fmt.Sprintf("select pg_logical_emit_message(false, 'tide', repeat('x', %d))", megabytes<<20))
	}
	last := s.commit(1)
	s.captured()
	t.Logf("%.0f MiB resident at most", resident(t, s.service.PID()))
	assert.Less(t, resident(t, s.service.PID()), 128.0, "MiB, whatever the length of a record")
	shown := s.service.Must("changes", "list", "ferries")
	assert.Contains(t, shown, last)
	assert.Empty(t, s.cluster().Holes)
	k, conn := s.restore("tx " + last)
	assert.Equal(t, "1", testbed.One[string](s.Bed, conn, numbersOf))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
	assert.Less(t, resident(t, s.service.PID()), 128.0)
}

// resident is the most memory that a process has had resident, in MiB.
func resident(t *testing.T, pid int) float64 {
	content, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	found := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(content)
	require.NotNil(t, found)
	kib, err := strconv.Atoi(string(found[1]))
	require.NoError(t, err)
	return float64(kib) / 1024
}

// TestWALThatCannotBeReplayed has wal_level lowered for a while: the moments of that time are a
// hole, and a base backup ends it.
func TestWALThatCannotBeReplayed(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries")
	before := s.commit(1)
	s.grow(1)
	s.captured()
	s.service.Stop()
	s.ferries.Exec("postgres", "select pg_drop_replication_slot(slot_name) from pg_replication_slots",
		"alter system set wal_keep_size = '512MB'")
	restart := func(settings ...string) {
		require.NoError(t, s.db.Close(context.Background()))
		s.ferries.Configure(settings...)
		s.ferries.Stop(host.Fast)
		s.ferries.Start()
		s.db = s.ferries.Connect("postgres")
	}
	restart("wal_level = minimal", "max_wal_senders = 0")
	within := s.commit(2)
	restart("wal_level = replica", "max_wal_senders = 10")
	s.service.Start()
	s.grow(1)
	s.captured()
	s.Eventually("the hole is told, with its cause", func() bool {
		k := s.cluster()
		return len(k.Holes) == 1 && strings.Contains(k.Holes[0].Cause, "wal_level was lowered to minimal")
	})
	s.refused(1, []string{"out of reach"}, "restore", "plan", "ferries", "tx "+within)
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	last := s.commit(3)
	s.captured()
	for moment, rows := range map[string]string{"tx " + before: "1", "tx " + last: "1,2,3"} {
		k, conn := s.restore(moment)
		assert.Equal(t, rows, testbed.One[string](s.Bed, conn, numbersOf))
		require.NoError(t, conn.Close(context.Background()))
		s.discard(k)
	}
}

// TestSpoolOnABadDisk has the spool's disk fill up, and give back another byte than it was given.
func TestSpoolOnABadDisk(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root can mount a small file system")
	}
	s := newStage(t, "--spool-limit", "256")
	small := s.Path("home", "spool")
	s.service.Stop()
	require.NoError(t, syscall.Mount("tmpfs", small, "tmpfs", 0, "size=80m,mode=0700"))
	t.Cleanup(func() { _ = syscall.Unmount(small, syscall.MNT_DETACH) })
	s.service.Start()
	s.protect()
	s.service.Must("backup", "take", "ferries")
	before := s.commit(1)
	s.grow(1)
	s.captured()
	s.Eventually("whole segments are stored", func() bool {
		k := s.cluster().Capture
		return k.Stored+16<<20 > k.Flushed && k.Spooled == 0
	})
	walDir, err := filepath.Glob(s.Path("home", "store", "clusters", "*", "wal"))
	require.NoError(t, err)
	require.Len(t, walDir, 1)
	require.NoError(t, os.Rename(walDir[0], walDir[0]+".away"))
	require.NoError(t, os.WriteFile(walDir[0], nil, 0o600)) // the store refuses
	s.grow(8)
	s.Eventually("the full disk is told", func() bool { return strings.Contains(s.cluster().Capture.Problem, "the spool's disk is full") })
	waiting, err := filepath.Glob(filepath.Join(small, "*", strings.Repeat("?", 24)))
	require.NoError(t, err)
	require.Greater(t, len(waiting), 2)
	f, err := os.OpenFile(waiting[1], os.O_RDWR, 0)
	require.NoError(t, err)
	b := make([]byte, 1)
	_, err = f.ReadAt(b, 9000)
	require.NoError(t, err)
	b[0] ^= 4
	_, err = f.WriteAt(b, 9000)
	require.NoError(t, err)
	require.NoError(t, f.Close())

	require.NoError(t, os.Remove(walDir[0]))
	require.NoError(t, os.Rename(walDir[0]+".away", walDir[0]))
	s.streaming()
	s.captured()
	s.Eventually("the damaged segment is a hole, and what comes after it is stored", func() bool {
		k := s.cluster()
		return len(k.Holes) == 1 && k.Capture.Spooled == 0
	})
	hole := s.cluster().Holes[0]
	assert.EqualValues(t, pg.DefaultSegmentSize, hole.To-hole.From)
	assert.Contains(t, hole.Cause, filepath.Base(waiting[1]))
	k, conn := s.restore("tx " + before)
	assert.Equal(t, "1", testbed.One[string](s.Bed, conn, numbersOf))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
}

// TestRestoredInPlace has the server be put back to an earlier state by its files alone, so that it
// writes other WAL under the same places: none of that is put beside what was captured, however far
// the server comes, and what was captured is still reached.
func TestRestoredInPlace(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries")
	earlier := s.ferries.DataDir + "-earlier"
	s.offline(func(data string) {
		out, err := exec.Command("cp", "-a", data, earlier).CombinedOutput()
		require.NoError(t, err, string(out))
	})
	kept := s.commit(1)
	s.grow(4)
	s.captured()
	require.NoError(t, s.db.Close(context.Background()))
	s.ferries.Stop(host.Fast)
	require.NoError(t, os.RemoveAll(s.ferries.DataDir))
	require.NoError(t, os.Rename(earlier, s.ferries.DataDir))
	s.ferries.Start()
	s.db = s.ferries.Connect("postgres")
	refused := func() bool {
		k := s.cluster().Capture
		return k.State == "failed" && strings.Contains(k.Problem, "restored in place")
	}
	s.Eventually("that it was restored in place is told", refused)
	s.Eventually("what was captured before is stored", func() bool { return s.cluster().Capture.Spooled == 0 })
	before := s.storedSegments()
	s.commit(2)
	s.grow(8) // as far as it had come, and further
	s.service.Stop()
	refusals := func() int { return strings.Count(s.said(s.Path("service.log")), "restored in place") }
	told := refusals()
	s.service.Start()
	s.Eventually("it is refused after a start, too", func() bool { return refusals() > told && refused() })
	s.Eventually("the list says so", func() bool { return strings.Contains(s.service.Must("cluster", "list"), "Capture has failed") })
	assert.Equal(t, before, s.storedSegments())
	k, conn := s.restore("tx " + kept)
	assert.Equal(t, "1", testbed.One[string](s.Bed, conn, numbersOf))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
	r := s.service.VelvetWith(rolePassword+"\n", "cluster", "add", "ferries-anew", "--connect", s.ferries.DSN("velvet", "postgres"),
		"--password-file", "-", "--no-base")
	require.Zero(t, r.Code, r.Err)
}
