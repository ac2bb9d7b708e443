package capture

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host/disk"
	"velvetrewind/engine/server/replication"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/vault"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestNothingStoredIsReplacedByLess compares made-up segments of every length.
func TestNothingStoredIsReplacedByLess(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := make([]byte, 600_000)
		for i := range all {
			all[i] = byte(i ^ i>>8 ^ i>>16)
		}
		stored := all[:rapid.IntRange(0, len(all)).Draw(t, "stored")]
		spooled := bytes.Clone(all[:rapid.IntRange(0, len(all)).Draw(t, "spooled")])
		want := contained
		if len(spooled) > len(stored) {
			want = goesFurther
		}
		if both := min(len(stored), len(spooled)); both > 0 && rapid.Bool().Draw(t, "other history") {
			spooled[rapid.IntRange(0, both-1).Draw(t, "at")] ^= 1
			want = contradicts
		}
		got, err := compare(bytes.NewReader(stored), bytes.NewReader(spooled))
		require.NoError(t, err)
		require.Equal(t, want, got)
	})
}

// TestBesideWhatIsStored judges a spooled segment by what the store has of it: nothing, less, all, other, or something that
// cannot be read. A store that does not answer is no verdict.
func TestBesideWhatIsStored(t *testing.T) {
	ctx := context.Background()
	root := t.TempDir()
	objects, err := dir.Open(root, 0)
	require.NoError(t, err)
	const z = pg.SegmentSize(1 << 20)
	c := &capturer{store: vault.Reading(objects, nil, nil), codec: layout.S2, cluster: catalog.Cluster{ID: catalog.NewID(), SegmentSize: z}}
	seg := pg.Segment{Timeline: 1, Number: 7}
	key := store.SegmentKey(c.cluster.ID, 1, seg.Name(z))
	path := filepath.Join(root, key)
	spooled := make([]byte, z)
	for i := range spooled {
		spooled[i] = byte(i>>8 ^ i)
	}
	judge := func() (verdict, error) { return c.beside(ctx, seg, bytes.NewReader(spooled)) }
	becomes := func(want verdict, what string) {
		t.Helper()
		is, err := judge()
		require.NoError(t, err, what)
		assert.Equal(t, want, is, what)
	}
	keep := func(content []byte) {
		t.Helper()
		_, _, err := c.put(ctx, key, bytes.NewReader(content))
		require.NoError(t, err)
	}
	becomes(goesFurther, "nothing is stored")
	keep(spooled[:z/2])
	becomes(goesFurther, "the first half is stored")
	keep(spooled)
	becomes(contained, "all is stored")
	other := bytes.Clone(spooled)
	other[z-1] ^= 1
	keep(other)
	becomes(contradicts, "its last byte is another")
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	content[len(content)/2] ^= 1
	require.NoError(t, os.WriteFile(path, content, 0o600))
	becomes(goesFurther, "what is stored cannot be read")
	require.NoError(t, os.Remove(path))
	require.NoError(t, os.MkdirAll(path, 0o700))
	_, err = judge()
	require.Error(t, err, "a directory stands there")
}

// TestTake takes messages of a stream into the spool, and notes how far the server is, whether it waits for a report and
// whether it has more.
func TestTake(t *testing.T) {
	const z = pg.SegmentSize(1 << 20)
	s, err := spool.Open(disk.OS, t.TempDir(), z, 1<<30)
	require.NoError(t, err)
	defer s.Close()
	s.Resume(1, z.Start(3))
	c := &capturer{spool: s, wakeup: make(chan struct{}, 1)}
	r := &receiver{capturer: c}
	data := make([]byte, 1000)
	at := z.Start(3)
	require.NoError(t, r.take(replication.Message{Start: at, ServerEnd: at + 1000, Data: data}))
	assert.Equal(t, at+1000, s.Written())
	assert.False(t, r.more, "that was all")
	require.NoError(t, r.take(replication.Message{Start: at + 1000, ServerEnd: at + 2001, Data: data, ReplyNow: true}))
	assert.True(t, r.more)
	assert.True(t, r.asked)
	require.NoError(t, r.take(replication.Message{ServerEnd: at + 1500}))
	assert.True(t, r.asked, "until it has been answered")
	assert.Equal(t, at+2001, r.server, "it does not go back")
	assert.Empty(t, c.wakeup)
	require.NoError(t, r.take(replication.Message{Start: at + 2000, ServerEnd: z.Start(4), Data: make([]byte, int(z)-2000)}))
	assert.Len(t, c.wakeup, 1, "a segment is full")
	require.Error(t, r.take(replication.Message{Start: z.Start(9), ServerEnd: z.Start(10), Data: data}), "it does not follow")
}

// TestWhatIsSharedIsNeverOther puts what is safe of the segment being received into the store where that is asked for, but not
// over another one.
func TestWhatIsSharedIsNeverOther(t *testing.T) {
	ctx := context.Background()
	objects, err := dir.Open(t.TempDir(), 0)
	require.NoError(t, err)
	const z = pg.SegmentSize(1 << 20)
	s, err := spool.Open(disk.OS, t.TempDir(), z, 1<<30)
	require.NoError(t, err)
	defer s.Close()
	seg := pg.Segment{Timeline: 1, Number: 3}
	s.Resume(1, z.Start(3))
	_, err = s.Write(z.Start(3), bytes.Repeat([]byte{7}, 5000))
	require.NoError(t, err)
	require.NoError(t, s.Flush())
	c := &capturer{store: vault.Reading(objects, nil, nil), codec: layout.S2, spool: s, asked: &atomic.Uint64{},
		cluster: catalog.Cluster{ID: catalog.NewID(), SegmentSize: z}}
	key, other := store.SegmentKey(c.cluster.ID, 1, seg.Name(z)), make([]byte, 100)
	_, _, err = c.put(ctx, key, bytes.NewReader(other))
	require.NoError(t, err)
	c.asked.Store(uint64(z.Start(3) + 5000))
	safe := catalog.Capture{Timeline: 1, FlushedLSN: z.Start(3) + 5000}
	require.NoError(t, c.sharePartial(ctx, safe), "that is told when the segment is full")
	r, err := c.store.Segment(ctx, c.cluster.ID, seg, z)
	require.NoError(t, err)
	defer func() { _ = r.Close() }()
	stored, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, other, stored)
}
