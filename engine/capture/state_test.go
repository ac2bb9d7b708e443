package capture

import (
	"context"
	"database/sql"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/testbed"
)

// TestCondition says of an open stream what it comes to: only what is near the server, in places and in time, is streaming.
func TestCondition(t *testing.T) {
	const far = catchUpBytes
	fresh := sql.NullTime{Time: time.Now(), Valid: true}
	old := sql.NullTime{Time: time.Now().Add(-time.Minute), Valid: true}
	for name, c := range map[string]struct {
		capturer *capturer
		server   pg.LSN
		flushed  pg.LSN
		complete sql.NullTime
		want     string
	}{
		"level":                        {&capturer{}, 1000, 1000, fresh, catalog.CaptureStreaming},
		"ahead of what it was told":    {&capturer{}, 1000, far + 2000, fresh, catalog.CaptureStreaming},
		"a segment behind":             {&capturer{}, far + 1000, 1000, fresh, catalog.CaptureStreaming},
		"more than a segment behind":   {&capturer{}, far + 1001, 1000, fresh, catalog.CaptureCatchingUp},
		"level, but that was long ago": {&capturer{}, 1000, 1000, old, catalog.CaptureCatchingUp},
		"level, but never told":        {&capturer{}, 1000, 1000, sql.NullTime{}, catalog.CaptureCatchingUp},
		"no store":                     {&capturer{storeTrouble: "it is full"}, 1000, 1000, fresh, catalog.CaptureWaiting},
		"a full spool before all":      {&capturer{storeTrouble: "it is full", paused: true}, 1000, 1000, fresh, catalog.CapturePaused},
	} {
		k := catalog.Capture{ServerLSN: c.server, FlushedLSN: c.flushed, CompleteTo: c.complete}
		assert.Equal(t, c.want, c.capturer.condition(k), name)
	}
}

// TestSettledTruth notes the newest answer of the server that is reached, once it is; answers of another timeline are of
// other places, and of very many the older ones are thinned out.
func TestSettledTruth(t *testing.T) {
	at := func(n int) time.Time { return time.Unix(int64(n), 0) }
	said := func(n int) truth { return truth{at: at(n), written: pg.LSN(n), timeline: 1} }
	c := &capturer{said: []truth{said(10), {at: at(11), written: 5, timeline: 2}, {at: at(12), written: 20}, said(30)}}
	k := catalog.Capture{Timeline: 1, FlushedLSN: 9, State: catalog.CaptureStreaming}
	c.settleTruth(&k)
	assert.Equal(t, pg.LSN(30), k.ServerLSN)
	assert.False(t, k.CompleteTo.Valid)
	assert.Len(t, c.said, 4)
	k.FlushedLSN, k.State = 20, catalog.CaptureRetrying
	c.settleTruth(&k)
	assert.False(t, k.CompleteTo.Valid, "what a stream that is closed has reached is no news")
	k.State = catalog.CaptureStreaming
	c.settleTruth(&k)
	assert.Equal(t, at(12), k.CompleteTo.Time, "exactly there is reached")
	assert.Equal(t, []truth{said(30)}, c.said)

	c.said = nil
	for n := range mostSaid {
		c.said = append(c.said, said(100+n))
	}
	c.settleTruth(&k)
	assert.Len(t, c.said, mostSaid)
	c.said = append(c.said, said(100+mostSaid), said(101+mostSaid))
	c.settleTruth(&k)
	require.Len(t, c.said, mostSaid/2+1)
	assert.Equal(t, said(101), c.said[0])
	assert.Equal(t, said(101+mostSaid), c.said[mostSaid/2], "the newest is among them")
}

// TestAskingTheServer asks a real one for its clock, its place and its room, and notices that it does not answer.
func TestAskingTheServer(t *testing.T) {
	ctx := context.Background()
	b := testbed.New(t)
	p := b.Postgres("original", true)
	conn := p.Connect("postgres")
	id := uint64(testbed.One[int64](b, conn, "select system_identifier from pg_control_system()"))
	c := &capturer{cluster: catalog.Cluster{Slot: "tide", SegmentSize: pg.DefaultSegmentSize, SystemID: id}}
	said, err := c.askServer(ctx, conn)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), said.at, time.Minute)
	assert.Less(t, said.ahead.Abs(), 10*time.Second, "it is the same clock")
	assert.Equal(t, pg.Timeline(1), said.timeline)
	assert.False(t, said.waits)
	assert.Zero(t, said.retained, "there is no slot")
	assert.EqualValues(t, -1, said.room)
	p.Exec("postgres", "create table t as select generate_series(1, 1000)")
	more, err := c.askServer(ctx, conn)
	require.NoError(t, err)
	assert.Greater(t, more.written, said.written)
	assert.False(t, more.at.Before(said.at))

	assert.Equal(t, p.DataDir+"/pg_wal", c.walHere(ctx, conn))
	assert.EqualValues(t, -1, c.freeOnServer(), "where that is is not known")
	c.walDir = p.DataDir + "/pg_wal"
	var fs unix.Statfs_t
	require.NoError(t, unix.Statfs(c.walDir, &fs))
	assert.InEpsilon(t, float64(fs.Bavail)*float64(fs.Bsize), float64(c.freeOnServer()), 0.2)
	c.walDir += "/nowhere"
	assert.EqualValues(t, -1, c.freeOnServer())
	c.cluster.SystemID++
	assert.Empty(t, c.walHere(ctx, conn), "of another cluster")

	require.NoError(t, conn.Close(ctx))
	_, err = c.askServer(ctx, conn)
	require.Error(t, err)
}
