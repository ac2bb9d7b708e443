package capture_test

import (
	"bytes"
	"context"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// said is a log that can be read while it is written.
type said struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *said) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(b)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

// TestTurns has a capture be taken over from another instance, which is given time to notice that it has lost it; from a
// former one of the same home, which is surely gone, it is taken at once. What another instance asks for comes into the
// store before its segment is full, and not again.
func TestTurns(t *testing.T) {
	ctx := context.Background()
	l := &life{T: t, Cluster: clusterbed.New(testbed.New(t))}
	const given = "it is given time to notice"
	takeOver := func(from int64) string {
		log := &said{}
		l.Supervisor.Log = slog.New(slog.NewTextHandler(log, nil))
		require.NoError(t, l.Catalog.SetHolder(ctx, l.Record.ID, from))
		begun := time.Now()
		l.stop = l.Capture()
		l.Eventually("it is ours", func() bool { return l.State().Holder == l.Supervisor.Instance })
		if from == 99 {
			assert.GreaterOrEqual(t, time.Since(begun), catalog.TakeoverWait)
		}
		return log.String()
	}
	l.Supervisor.Former = 7
	assert.NotContains(t, takeOver(0), given, "nobody's")
	l.stop()
	assert.Zero(t, l.State().Holder, "given back in order")
	assert.NotContains(t, takeOver(7), given, "the one before us in this home")
	l.stop()
	assert.Contains(t, takeOver(99), given)
	l.streams()

	asked := func() pg.LSN {
		l.Server.Exec("postgres", "create table if not exists cargo (n int)", "insert into cargo select generate_series(1, 500)")
		l.Captured()
		return l.State().FlushedLSN
	}
	isStored := func(to pg.LSN) bool {
		is, err := l.Catalog.StoredTo(ctx, l.Record, 1, to)
		require.NoError(t, err)
		return is
	}
	first := asked()
	assert.False(t, isStored(first), "its segment is not full")
	require.NoError(t, l.Catalog.AskStored(ctx, l.Record.ID, first))
	l.Eventually("what was asked for is in the store", func() bool { return isStored(first) })
	second := asked()
	assert.False(t, isStored(second))
	require.NoError(t, l.Catalog.AskStored(ctx, l.Record.ID, second))
	l.Eventually("and what came after it", func() bool { return isStored(second) })
	l.same(1, l.Record.SegmentSize.Number(first))
}

// TestWhatIsToldAtOnce has an incident be recorded before its segment is full, by the name of a table that nobody has asked
// for yet; and a segment that is another than the one in the store end the capture, which says so until it is stopped.
func TestWhatIsToldAtOnce(t *testing.T) {
	ctx := context.Background()
	l := &life{T: t, Cluster: clusterbed.New(testbed.New(t))}
	l.capture()
	z := l.Record.SegmentSize
	begun := z.Number(l.State().FlushedLSN)
	l.Server.Exec("postgres", "create table cargo (n int, note text)", "insert into cargo select generate_series(1, 20000)",
		"delete from cargo")
	l.Eventually("the incident is recorded", func() bool {
		list, err := l.Catalog.Incidents(ctx, l.Record.ID)
		return err == nil && len(list) == 1 && strings.Contains(string(list[0].Reasons), "20,000 rows of cargo were deleted")
	})
	assert.Equal(t, begun, z.Number(l.State().FlushedLSN), "its segment is not full")

	seg := pg.Segment{Timeline: 1, Number: begun}
	other := make([]byte, z)
	_, err := l.Store.Put(ctx, store.SegmentKey(l.Record.ID, 1, seg.Name(z)), layout.S2, other)
	require.NoError(t, err)
	require.NoError(t, l.Catalog.AddSegment(ctx, catalog.Segment{ClusterID: l.Record.ID, Timeline: 1, Number: begun, Name: seg.Name(z),
		Start: z.Start(begun), End: z.Start(begun + 1)}))
	l.write(1)
	failed := func() bool {
		k := l.State()
		return k.State == catalog.CaptureFailed && strings.Contains(k.Problem, "has sent another segment "+seg.Name(z))
	}
	l.Eventually("capture has failed", failed)
	l.write(2)
	time.Sleep(time.Second)
	assert.True(t, failed(), "it does not begin again by itself")
	assert.Equal(t, other, l.stored(seg), "what the store has stays")
	aside, err := filepath.Glob(filepath.Join(l.Path("spool"), l.Record.ID, spool.AsideDir, seg.Name(z)+"*"))
	require.NoError(t, err)
	assert.Len(t, aside, 1, "what was sent is set aside")
}
