package capture

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/host/disk"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
)

// TestFollowerInAnyOrder reads a transaction over many segments, in pieces, beginning
// anew in between and looking into a segment before the one before it is stored, as
// races and lost connections make it happen. The counts must be whole all the same.
func TestFollowerInAnyOrder(t *testing.T) {
	ctx := context.Background()
	b := testbed.New(t)
	p := b.Postgres("original", true, "wal_keep_size = '1GB'", "autovacuum = off")
	p.Exec("postgres", "create table booking (id int primary key, note text)",
		"insert into booking select n, repeat('t', 700) from generate_series(1, 150000) n", "checkpoint")
	conn := p.Connect("postgres")
	testbed.One[string](b, conn, "select pg_switch_wal()::text")
	from := testbed.One[string](b, conn, "select pg_current_wal_insert_lsn()::text")
	p.Exec("postgres", "delete from booking where id <= 120000") // with an image of every page
	to := testbed.One[string](b, conn, "select pg_switch_wal()::text")
	start, err := pg.ParseLSN(from)
	require.NoError(t, err)
	end, err := pg.ParseLSN(to)
	require.NoError(t, err)
	z := pg.DefaultSegmentSize
	first, last := z.Number(start), z.Number(end-1)
	require.Greater(t, last-first, uint64(3))

	records := b.Postgres("catalogue", false)
	c, err := catalog.Open(ctx, records.DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(t, err)
	t.Cleanup(c.Close)
	for seed := range uint64(4) {
		f, put := newFollower(t, c, p)
		require.True(t, f.refresh(ctx), "the server is asked for names")
		require.False(t, f.refresh(ctx), "just now")
		require.True(t, f.lacking)
		random := rand.New(rand.NewPCG(seed, 7))
		deleted := int64(0)
		for n := first; n <= last; n++ {
			seg := pg.Segment{Timeline: 1, Number: n}
			path := filepath.Join(p.DataDir, "pg_wal", seg.Name(z))
			for range random.IntN(4) {
				switch random.IntN(3) {
				case 0:
					f.forget()
				case 1: // as far as it has come
					require.NoError(t, f.read(ctx, seg, path, z.Start(n)+pg.LSN(random.IntN(int(z)))))
				case 2: // the next one, too early
					if n < last {
						next := pg.Segment{Timeline: 1, Number: n + 1}
						_ = f.read(ctx, next, filepath.Join(p.DataDir, "pg_wal", next.Name(z)), z.Start(n+1)+pg.LSN(random.IntN(1<<20)))
					}
				}
			}
			require.NoError(t, f.read(ctx, seg, path, z.Start(n+1)))
			s, err := f.finish(ctx, z.Start(n+1))
			require.NoError(t, err)
			put(seg, path, s)
			for tx, err := range s.Transactions() {
				require.NoError(t, err)
				for _, change := range tx.Changes {
					deleted += change.Deleted
				}
			}
		}
		assert.EqualValues(t, 120000, deleted, "seed %d", seed)
	}
}

// TestAnIncidentOfATableThatHasNoNameYet: the server cannot be asked at the moment. The incident is told as soon as it can.
func TestAnIncidentOfATableThatHasNoNameYet(t *testing.T) {
	ctx := context.Background()
	b := testbed.New(t)
	p := b.Postgres("original", true, "autovacuum = off")
	p.Exec("postgres", "create table booking as select generate_series(1, 12000)")
	conn := p.Connect("postgres")
	switched, err := pg.ParseLSN(testbed.One[string](b, conn, "select pg_switch_wal()::text"))
	require.NoError(t, err)
	seg := pg.Segment{Timeline: 1, Number: pg.DefaultSegmentSize.Number(switched) + 1}
	c, err := catalog.Open(ctx, b.Postgres("catalogue", false).DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(t, err)
	t.Cleanup(c.Close)
	f, _ := newFollower(t, c, p)
	f.rule.Store(&journal.DefaultRule)
	var noted []string
	f.note = func(timeline pg.Timeline, tx *journal.Transaction, why []journal.Incident) error {
		noted = append(noted, fmt.Sprint(timeline, " ", why[0].Name.Table, " ", why[0].Rows))
		return nil
	}
	p.Exec("postgres", "delete from booking", "create table crew (id int)", "insert into crew values (1)")
	to, err := pg.ParseLSN(testbed.One[string](b, conn, "select pg_current_wal_flush_lsn()::text"))
	require.NoError(t, err)

	f.sampled = time.Now()
	require.NoError(t, f.read(ctx, seg, filepath.Join(p.DataDir, "pg_wal", seg.Name(pg.DefaultSegmentSize)), to))
	require.NoError(t, f.settle(ctx))
	assert.Empty(t, noted)
	f.sampled = time.Time{}
	require.NoError(t, f.settle(ctx))
	assert.Equal(t, []string{"1 booking 12000"}, noted)
}

// newFollower makes a follower over an empty store, and what stores its segments.
func newFollower(t *testing.T, c *catalog.Catalog, p *testbed.Postgres) (*follower, func(pg.Segment, string, *journal.Segment)) {
	ctx := context.Background()
	d, err := dir.Open(t.TempDir(), -1)
	require.NoError(t, err)
	objects := vault.Reading(d, nil, nil)
	k := catalog.Cluster{ID: catalog.NewID(), Name: "ferries" + time.Now().Format("150405.000000000"),
		SegmentSize: pg.DefaultSegmentSize, Slot: "s"}
	require.NoError(t, c.AddCluster(ctx, k))
	book, err := (&names.Books{Catalog: c}).Of(ctx, k.ID)
	require.NoError(t, err)
	x := &changes.Indexes{Store: objects, Codec: layout.S2, Cluster: k, Names: book.Now(),
		Open: func(ctx context.Context, seg pg.Segment) (io.ReadCloser, error) {
			return objects.Segment(ctx, k.ID, seg, k.SegmentSize)
		}}
	rule := &atomic.Pointer[journal.Rule]{}
	rule.Store(&journal.Rule{})
	f := &follower{disk: disk.OS,
		cluster: k, access: access.Access{ConnString: p.DSN(testbed.Superuser, "postgres"), Password: testbed.Password}, index: x,
		book: book, rule: rule,
		note: func(pg.Timeline, *journal.Transaction, []journal.Incident) error { return nil },
		who:  func(pg.FullXID) (journal.Author, bool) { return journal.Author{}, false },
	}
	return f, func(seg pg.Segment, path string, s *journal.Segment) {
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		_, err = objects.Put(ctx, store.SegmentKey(k.ID, 1, seg.Name(k.SegmentSize)), layout.S2, content)
		require.NoError(t, err)
		require.NoError(t, x.Put(ctx, s))
	}
}
