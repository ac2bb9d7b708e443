package capture_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/store"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// life is a cluster that is captured through what happens to servers.
type life struct {
	*testing.T
	*clusterbed.Cluster
	first pg.Segment // that is in the store
	stop  func()
}

func (l *life) write(segments int) {
	for range segments {
		l.Server.Exec("postgres", "insert into cargo select n, repeat('c', 300) from generate_series(1, 2000) n", "select pg_switch_wal()")
	}
}

func (l *life) streams() {
	l.Eventually("capture streams", func() bool { return l.State().State == catalog.CaptureStreaming })
}

func (l *life) capture() { l.stop = l.Capture(); l.streams() }

// same holds that the store has every segment of a timeline from the first to the newest whole one as the server has.
func (l *life) same(t pg.Timeline, first uint64) (last uint64) {
	z := l.Record.SegmentSize
	l.Stored()
	last = z.Number(l.State().StoredLSN) - 1
	for n := first; n <= last; n++ {
		seg := pg.Segment{Timeline: t, Number: n}
		want, err := os.ReadFile(filepath.Join(l.Server.DataDir, "pg_wal", seg.Name(z)))
		require.NoError(l.T, err)
		require.True(l.T, bytes.Equal(want, l.stored(seg)), "segment %s is as the server has it", seg.Name(z))
	}
	return last
}

func (l *life) restart(between func()) {
	require.NoError(l.T, l.SQL.Close(context.Background()))
	l.Server.Stop(host.Fast)
	between()
	l.Server.Start()
	l.Connect()
}

// holes are the causes that are recorded of missing WAL.
func (l *life) holes() map[string]string {
	standings, err := l.Catalog.Standings(context.Background(), l.Record.ID)
	require.NoError(l.T, err)
	found := make(map[string]string)
	for _, h := range standings.Causes[l.Record.ID] {
		found[fmt.Sprintf("%d %s", h.Timeline, h.From)] = h.Cause
	}
	return found
}

// TestLifeOfACapture takes one capture through stops of the service and of the server, a session that is ended, a slot
// that is dropped with and without its WAL, a full spool, a new timeline and a restore in place. What is in the store is
// at every step what the server has, and nothing is called a hole that is none, or complete that is not.
func TestLifeOfACapture(t *testing.T) {
	l := &life{T: t, Cluster: clusterbed.New(testbed.New(t), "wal_keep_size = '1GB'", "max_wal_size = '4GB'", "autovacuum = off",
		"checkpoint_timeout = '1h'")}
	z := l.Record.SegmentSize
	l.Server.Exec("postgres", "create table cargo (n int, note text)")

	began := l.Ended()
	l.capture()
	l.first = pg.Segment{Timeline: 1, Number: z.Number(l.State().FlushedLSN)}
	assert.LessOrEqual(t, z.Start(l.first.Number), began, "it begins with the segment in which it was asked for")
	l.write(2)
	l.same(1, l.first.Number)
	k := l.State()
	assert.Equal(t, pg.Timeline(1), k.Timeline)
	assert.Zero(t, k.Spooled)
	assert.Empty(t, k.Problem)
	assert.True(t, k.CompleteTo.Valid)
	assert.EqualValues(t, 1, k.Holder)

	l.write(2)
	l.Captured()
	l.stop()
	assert.Zero(t, l.State().Holder, "it was ended in order")
	k = l.State()
	is, err := l.Catalog.StoredTo(context.Background(), l.Record, 1, z.Start(z.Number(k.FlushedLSN)))
	require.NoError(t, err)
	assert.True(t, is, "what was finished is in the store: another home could not have it sent again")
	l.write(2)
	l.capture()
	l.same(1, l.first.Number)

	// The session is ended: another takes its place.
	l.Server.Exec("postgres", "select pg_terminate_backend(active_pid) from pg_replication_slots where slot_name = 'tide'")
	l.write(1)
	l.same(1, l.first.Number)

	// The server is away for a while, in the middle of a segment.
	l.Server.Exec("postgres", "insert into cargo values (1, 'ebb')")
	l.Captured()
	l.restart(func() {
		l.Eventually("that it is away is told", func() bool {
			k := l.State()
			return k.State == catalog.CaptureRetrying && k.Problem != ""
		})
	})
	l.streams()
	l.write(1)
	l.same(1, l.first.Number)
	assert.Empty(t, l.holes())

	// The slot is dropped; the server still has the WAL.
	l.stop()
	l.Server.Exec("postgres", "select pg_drop_replication_slot('tide')")
	l.write(2)
	l.capture()
	l.same(1, l.first.Number)
	assert.Empty(t, l.holes())
	assert.Equal(t, "physical", testbed.One[string](l.Bed, l.SQL, "select slot_type from pg_replication_slots where slot_name = 'tide'"))

	l.slotAndWALLost()
	l.spoolFills()
	l.promoted()
	l.restoredInPlace()
}

// slotAndWALLost has the server remove WAL that was not captured: there is a hole, with its cause, and capture goes on.
func (l *life) slotAndWALLost() {
	z := l.Record.SegmentSize
	l.Server.Exec("postgres", "insert into cargo values (2, 'ebb')")
	l.Captured()
	l.stop()
	upTo := l.State().FlushedLSN
	l.Server.Exec("postgres", "select pg_drop_replication_slot('tide')", "alter system set wal_keep_size = 0", "select pg_reload_conf()")
	l.write(3)
	l.Server.Exec("postgres", "checkpoint")
	_, err := os.Stat(filepath.Join(l.Server.DataDir, "pg_wal", pg.Segment{Timeline: 1, Number: z.Number(upTo)}.Name(z)))
	require.ErrorIs(l.T, err, os.ErrNotExist)
	l.Server.Exec("postgres", "alter system set wal_keep_size = '1GB'", "select pg_reload_conf()")
	l.capture()
	l.Eventually("capture goes on after the hole", func() bool { return l.State().FlushedLSN > z.Start(z.Number(upTo)+2) })
	holes := l.holes()
	require.Len(l.T, holes, 1)
	for at, cause := range holes {
		assert.True(l.T, strings.HasPrefix(at, "1 "))
		assert.Contains(l.T, cause, "the server had removed the WAL before it was captured")
	}
	went := z.Number(l.State().FlushedLSN)
	// What was safe of the segment before the hole is in the store.
	assert.GreaterOrEqual(l.T, len(l.stored(pg.Segment{Timeline: 1, Number: z.Number(upTo)})), int(z.Offset(upTo)))
	l.first.Number = went
	l.write(1)
	l.same(1, went)
}

// spoolFills has the store refuse for a while, with a small spool: capture waits, pauses, and goes on.
func (l *life) spoolFills() {
	l.stop()
	l.Supervisor.SpoolLimit = 3 * int64(l.Record.SegmentSize)
	l.capture()
	l.write(1)
	l.same(1, l.first.Number)
	below := filepath.Join(l.Path("store"), "clusters", l.Record.ID, "wal")
	require.NoError(l.T, os.Rename(below, below+".away"))
	require.NoError(l.T, os.WriteFile(below, nil, 0o600))
	l.write(1)
	l.Eventually("that it waits for the store is told", func() bool {
		k := l.State()
		return k.State == catalog.CaptureWaiting && k.Problem != "" && k.Spooled >= int64(l.Record.SegmentSize)
	})
	l.stop() // and begins anew while the store is away
	l.stop = l.Capture()
	l.write(6)
	l.Eventually("that it pauses is told", func() bool {
		k := l.State()
		return k.State == catalog.CapturePaused && strings.Contains(k.Problem, "the spool is full")
	})
	k := l.State()
	assert.LessOrEqual(l.T, k.Spooled, l.Supervisor.SpoolLimit+int64(l.Record.SegmentSize))
	assert.Less(l.T, k.FlushedLSN, l.Ended())
	require.NoError(l.T, os.Remove(below))
	require.NoError(l.T, os.Rename(below+".away", below))
	l.streams()
	l.same(1, l.first.Number)
	assert.Len(l.T, l.holes(), 1)
}

// promoted has the server go on on another timeline: capture follows.
func (l *life) promoted() {
	z := l.Record.SegmentSize
	l.Captured()
	l.restart(func() {
		require.NoError(l.T, l.Host.WriteFile(filepath.Join(l.Server.DataDir, "standby.signal"), nil, 0o600))
	})
	l.Server.Exec("postgres", "select pg_promote()")
	l.write(1)
	l.Eventually("capture follows", func() bool { k := l.State(); return k.Timeline == 2 && k.State == catalog.CaptureStreaming })
	timelines, err := l.Catalog.Timelines(context.Background(), l.Record.ID)
	require.NoError(l.T, err)
	require.Len(l.T, timelines, 1)
	assert.Equal(l.T, pg.Timeline(1), timelines[0].Parent)
	fork := timelines[0].ForkedAt
	l.same(2, z.Number(fork))
	assert.Len(l.T, l.stored(pg.Segment{Timeline: 1, Number: z.Number(fork)}), int(z.Offset(fork)),
		"the cut segment is kept up to the fork")
	_, err = l.Store.Stat(context.Background(), store.IndexKey(l.Record.ID, 2, pg.Segment{Timeline: 2, Number: z.Number(fork)}.Name(z)))
	require.NoError(l.T, err, "its journal goes on over the fork")
	assert.Len(l.T, l.holes(), 1)
}

// restoredInPlace puts the server's files back to what they were: capture refuses, however far the server comes, and
// nothing that it wrote since is put beside what was captured.
func (l *life) restoredInPlace() {
	z, earlier := l.Record.SegmentSize, l.Server.DataDir+"-earlier"
	l.restart(func() {
		out, err := exec.Command("cp", "-a", l.Server.DataDir, earlier).CombinedOutput()
		require.NoError(l.T, err, string(out))
	})
	l.streams()
	l.write(2)
	last := pg.Segment{Timeline: 2, Number: l.same(2, z.Number(l.State().StoredLSN))}
	stored := l.stored(last)
	l.restart(func() {
		require.NoError(l.T, os.RemoveAll(l.Server.DataDir))
		require.NoError(l.T, os.Rename(earlier, l.Server.DataDir))
	})
	refused := func() bool {
		k := l.State()
		return k.State == catalog.CaptureFailed && strings.Contains(k.Problem, "restored in place") && k.Diverged != ""
	}
	l.Eventually("that it was restored in place is told", refused)
	l.write(4)
	l.stop()
	l.stop = l.Capture()
	l.Eventually("it is refused after a start, too", refused)
	assert.Equal(l.T, stored, l.stored(last))
	whole, ok, err := l.Catalog.LastWhole(context.Background(), l.Record)
	require.NoError(l.T, err)
	require.True(l.T, ok)
	assert.Equal(l.T, last, whole)
}

// stored is a segment as the store has it.
func (l *life) stored(seg pg.Segment) []byte {
	r, err := l.Store.Segment(context.Background(), l.Record.ID, seg, l.Record.SegmentSize)
	require.NoError(l.T, err)
	defer func() { require.NoError(l.T, r.Close()) }()
	content, err := io.ReadAll(r)
	require.NoError(l.T, err)
	return content
}
