package changes

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
)

const z = pg.SegmentSize(1 << 20)

var (
	ctx  = context.Background()
	noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
)

// past is a made-up history: transactions laid out over segments, and what is expected of them.
type past struct {
	*testing.T
	catalog *catalog.Catalog
	store   *vault.Vault
	cluster catalog.Cluster
	index   *Indexes
	state   journal.State
	at      pg.LSN
	xid     pg.XID
	time    time.Time
	all     []Entry // committed, with their size in rows deleted
}

func newPast(t *testing.T) *past {
	b := testbed.New(t)
	records := b.Postgres("catalogue", false)
	c, err := catalog.Open(ctx, records.DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(t, err)
	t.Cleanup(c.Close)
	d, err := dir.Open(t.TempDir(), 0)
	require.NoError(t, err)
	s := vault.Reading(d, nil, nil)
	p := &past{T: t, catalog: c, store: s, xid: 1000, time: noon}
	p.cluster = catalog.Cluster{ID: catalog.NewID(), Name: "ferries", SystemID: 1, ServerVersion: 150000, SegmentSize: z, Slot: "s"}
	require.NoError(t, c.AddCluster(ctx, p.cluster))
	p.index = &Indexes{Store: s, Codec: layout.S2, Cluster: p.cluster}
	p.state = journal.State{Epoch: true, NextXID: 1000, Whole: true}
	return p
}

// tables are called by their filenode.
func called(ref wal.RelationRef) (journal.Name, bool) {
	return journal.Name{OID: ref.Filenode, Database: "saltmarsh", Schema: "public", Table: fmt.Sprintf("t%d", ref.Filenode)}, true
}

// segment makes the index of a segment with transactions that each delete and insert some rows.
func (p *past) segment(n uint64, transactions [][2]int, marks ...string) {
	seg := pg.Segment{Timeline: 1, Number: n}
	p.at = z.Start(n)
	p.state.Next, p.state.Prev = p.at, p.at-80
	r := journal.NewRecorder(seg, z, p.state)
	for i, rows := range transactions {
		ref := wal.RelationRef{Space: 1663, Database: 5, Filenode: 100 + uint32(i)%3}
		e := Entry{Transaction: journal.Transaction{XID: p.xid.Near(p.state.NextXID), First: p.at}, Size: int64(rows[0])}
		for range rows[0] {
			p.see(r, &wal.Record{Manager: wal.ManagerHeap, Info: 0x10, XID: p.xid, Main: make([]byte, 8), Blocks: []wal.Block{block(ref)}})
		}
		for range rows[1] {
			p.see(r, &wal.Record{Manager: wal.ManagerHeap, XID: p.xid, Main: make([]byte, 3), Blocks: []wal.Block{block(ref)}})
		}
		e.End, e.Time = p.at, p.time
		p.see(r, &wal.Record{Manager: wal.ManagerTransaction, XID: p.xid,
			Main: binary.LittleEndian.AppendUint64(nil, uint64(pg.ToTimestamp(p.time)))})
		e.Tables = []journal.TableChange{{Name: journal.Name{Table: fmt.Sprintf("t%d", ref.Filenode)},
			Counts: journal.Counts{int64(rows[1]), 0, int64(rows[0])}}}
		p.all = append(p.all, e)
		p.xid++
		p.time = p.time.Add(time.Second)
	}
	for _, m := range marks {
		main := binary.LittleEndian.AppendUint64(nil, uint64(pg.ToTimestamp(p.time)))
		p.see(r, &wal.Record{Manager: wal.ManagerXLOG, Info: 0x70, Main: append(append(main, m...), make([]byte, 64-len(m))...)})
	}
	s, err := r.Segment(z.Start(n+1), called)
	require.NoError(p, err)
	require.NoError(p, p.index.Put(ctx, s))
	p.state = s.State
	require.NoError(p, p.catalog.AddSegment(ctx, catalog.Segment{ClusterID: p.cluster.ID, Timeline: 1, Number: n, Name: seg.Name(z),
		Start: z.Start(n), End: z.Start(n + 1)}))
}

func block(ref wal.RelationRef) wal.Block {
	return wal.Block{Space: ref.Space, Database: ref.Database, Filenode: ref.Filenode}
}

func (p *past) see(r *journal.Recorder, rec *wal.Record) {
	rec.Start, rec.End, rec.Length = p.at, p.at+80, 80
	p.at += 80
	_, err := r.See(rec, pg.Major(15))
	require.NoError(p, err)
}

func (p *past) open() *Journal {
	k, err := p.catalog.Cluster(ctx, "ferries")
	require.NoError(p, err)
	a, err := archive.Open(ctx, p.catalog, p.store, p.TempDir(), k)
	require.NoError(p, err)
	book, err := (&names.Books{Catalog: p.catalog}).Of(ctx, k.ID)
	require.NoError(p, err)
	j, err := Open(ctx, a, layout.S2, book)
	require.NoError(p, err)
	return j
}

func xids(list []Entry) (ids []pg.FullXID) {
	for _, e := range list {
		ids = append(ids, e.XID)
	}
	return ids
}

// TestQueriesAgainstAModel asks a history of several chapters, with a gap in it, and
// compares with what was laid out; again without the chapters.
func TestQueriesAgainstAModel(t *testing.T) {
	p := newPast(t)
	random := rand.New(rand.NewPCG(5, uint64(time.Now().UnixNano())))
	for n := uint64(200); n < 800; n++ {
		if n >= 420 && n < 450 {
			continue // never captured
		}
		transactions := make([][2]int, random.IntN(4))
		for i := range transactions {
			transactions[i] = [2]int{random.IntN(6), random.IntN(4)}
			if random.IntN(60) == 0 {
				transactions[i][0] = 500 + random.IntN(500)
			}
		}
		p.segment(n, transactions)
	}
	for _, chapters := range []string{"with chapters", "without"} {
		j := p.open()
		require.Len(t, j.stretches, 2, chapters)
		for range 12 {
			p.compare(j, random)
		}
		for n := range uint64(4) {
			err := p.store.Delete(ctx, store.ChapterKey(p.cluster.ID, 1, n))
			if err != nil {
				require.ErrorIs(t, err, store.ErrNotFound)
			}
		}
	}
}

// compare asks once with a random filter.
func (p *past) compare(j *Journal, random *rand.Rand) {
	deleted := journal.Delete
	f := journal.Filter{Kind: &deleted, MinRows: int64(random.IntN(4)),
		Table: journal.Table{Name: []string{"", "t100", "t101"}[random.IntN(3)]}}
	if random.IntN(2) == 0 {
		f.From = noon.Add(time.Duration(random.IntN(len(p.all))) * time.Second)
		f.To = f.From.Add(time.Duration(random.IntN(300)) * time.Second)
	}
	var want []Entry
	for _, e := range p.all {
		if e.Size > 0 && e.Size >= f.MinRows && (f.Table.Name == "" || f.Table.Name == e.Tables[0].Table) &&
			(f.From.IsZero() || !e.Time.Before(f.From) && !e.Time.After(f.To)) {
			want = append(want, e)
		}
	}
	limit := 1 + random.IntN(40)
	got, more, err := j.List(ctx, f, true, limit)
	require.NoError(p, err)
	require.Equal(p, xids(want[:min(limit, len(want))]), xids(got))
	require.Equal(p, len(want) > limit, more)
	slices.Reverse(want)
	got, _, err = j.List(ctx, f, false, limit)
	require.NoError(p, err)
	require.Equal(p, xids(want[:min(limit, len(want))]), xids(got))
	slices.SortStableFunc(want, func(a, b Entry) int { return cmp.Compare(b.Size, a.Size) })
	got, err = j.Biggest(ctx, f, limit)
	require.NoError(p, err)
	require.Len(p, got, min(limit, len(want)))
	for i := range got {
		require.Equal(p, want[i].Size, got[i].Size)
	}

	at := p.all[random.IntN(len(p.all))]
	p.costAndRates(j, at)
	found, err := j.ByXID(ctx, at.XID)
	require.NoError(p, err)
	require.Equal(p, []pg.FullXID{at.XID}, xids(found))
}

// costAndRates sums what lies after a transaction, and what was committed in all.
func (p *past) costAndRates(j *Journal, at Entry) {
	var transactions, deleted, inserted int64
	for _, e := range p.all {
		if e.End >= at.End {
			transactions++
			deleted += e.Tables[0].Counts[journal.Delete]
			inserted += e.Tables[0].Counts[journal.Insert]
		}
	}
	cost, err := j.Cost(ctx, moment.Boundary{Stop: at.End})
	require.NoError(p, err)
	var sum journal.Counts
	for _, s := range cost.Tables {
		for k, n := range s.Sum {
			sum[k] += n
		}
	}
	require.Equal(p, []int64{transactions, deleted, inserted}, []int64{cost.Transactions, sum[journal.Delete], sum[journal.Insert]})
	rates, err := j.Rates(ctx, at.Time, p.time, 7)
	require.NoError(p, err)
	sum = journal.Counts{}
	for _, r := range rates {
		for k, n := range r.Counts {
			sum[k] += n
		}
	}
	require.InDelta(p, deleted, sum[journal.Delete], float64(deleted)/10+50, "what lies in many segments is spread")

	b := moment.Boundary{Stop: at.End}
	first, err := j.firstOut(ctx, &b)
	require.NoError(p, err)
	require.Equal(p, at.XID, first.XID)
	b.Inclusive = true
	last, err := j.lastIn(ctx, &b)
	require.NoError(p, err)
	require.Equal(p, at.XID, last.XID)
}

// TestEpochsMarksAndHoles has ids that are used again, a restore point that is set twice, and times in a hole.
func TestEpochsMarksAndHoles(t *testing.T) {
	p := newPast(t)
	p.segment(1, [][2]int{{1, 1}, {2, 0}}, "low tide", "high tide")
	p.xid += 1 << 31 // half way around
	p.segment(2, [][2]int{{1, 1}})
	p.xid = 1000 // and all the way: the same ids in the next epoch
	p.state.NextXID = 1<<32 + 1000
	p.segment(3, [][2]int{{3, 0}}, "low tide")
	p.time = p.time.Add(time.Hour)
	p.segment(9, [][2]int{{4, 0}})
	require.NoError(t, p.catalog.AddBackup(ctx, catalog.Backup{ID: "01base", ClusterID: p.cluster.ID, Kind: "full", Timeline: 1,
		Start: z.Start(1), Stop: z.Start(1) + 40, StartedAt: noon.Add(-2 * time.Minute), StoppedAt: noon.Add(-time.Minute),
		Tablespaces: []byte("[]")}))
	j := p.open()
	for text, says := range map[string]string{
		"before tx 1000":         "the id 1000 was used in 2 epochs. Choose one:\nbefore lsn 0/1000A0  (",
		"tx 999":                 "no end of transaction 999 is in the captured WAL",
		"tx 4294968500":          "has not begun",
		"restore point low tide": `2 restore points are called "low tide"`,
		"restore point ebb":      `no restore point "ebb"`,
		"2026-11-23T12:30:00Z":   "it lies in a hole",
		"2026-11-23T10:00:00Z":   "before the end of the first base backup",
		"lsn 0/600000":           "it lies in a hole: the WAL from 0/400000 to 0/900000 was never captured",
		"lsn 0/40":               "it lies before the captured WAL",
		"lsn 7/0":                "it lies beyond the captured WAL",
		"base 01nowhere":         "no base backup",
		"before drop of t100":    "dropped t100",
		"before delete of t100":  "4 transactions match",
	} {
		m, err := moment.Parse(text, moment.Caller{})
		require.NoError(t, err, text)
		_, _, err = j.Resolve(ctx, m)
		assert.ErrorContains(t, err, says, text)
	}
	for text, at := range map[string]pg.LSN{"before tx 4294968296": z.Start(3) + 3*80, "restore point high tide": z.Start(1) + 7*80,
		"base 01base": z.Start(1) + 40, "2026-11-23T12:00:00Z": z.Start(1) + 5*80} {
		m, err := moment.Parse(text, moment.Caller{})
		require.NoError(t, err)
		where, _, err := j.locate(ctx, m)
		require.NoError(t, err, text)
		assert.Equal(t, at, where.lsn, text)
	}
}
