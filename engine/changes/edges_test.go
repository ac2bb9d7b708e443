package changes

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/blocks"
	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/reach"
	"velvetrewind/core/wal"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
)

// end is a commit or, op 0x20, an abort.
func (p *past) end(op uint8, xid pg.XID) *wal.Record {
	return &wal.Record{Manager: wal.ManagerTransaction, Info: op, XID: xid,
		Main: binary.LittleEndian.AppendUint64(nil, uint64(pg.ToTimestamp(p.time)))}
}

// put makes the index of a segment of these records, the last of which ends with it.
func (p *past) put(n uint64, records ...*wal.Record) *journal.Segment {
	seg := pg.Segment{Timeline: 1, Number: n}
	r := journal.NewRecorder(seg, z, p.state)
	if p.at = p.state.Next; p.at == 0 {
		p.at = z.Start(n)
	}
	for i, rec := range records {
		rec.Start, rec.End, rec.Length = p.at, p.at+80, 80
		if i == len(records)-1 {
			rec.End = z.Start(n + 1)
		}
		p.at = rec.End
		_, err := r.See(rec, pg.Major(15))
		require.NoError(p, err)
	}
	s, err := r.Segment(z.Start(n+1), called)
	require.NoError(p, err)
	require.NoError(p, p.index.Put(ctx, s))
	p.state = s.State
	require.NoError(p, p.catalog.AddSegment(ctx, catalog.Segment{ClusterID: p.cluster.ID, Timeline: 1, Number: n, Name: seg.Name(z),
		Start: z.Start(n), End: z.Start(n + 1)}))
	return s
}

// page changes one page of the relation t100.
func page(n int) *wal.Record {
	b := block(wal.RelationRef{Space: 1663, Database: 5, Filenode: 100})
	b.Number = uint32(n)
	return &wal.Record{Manager: wal.ManagerHeap, Info: 0x10, XID: 7, Main: make([]byte, 8), Blocks: []wal.Block{b}}
}

// TestChangedPagesAreAllOrAnError asks which pages changed, of summaries of which one is missing, tells less than it
// should, or was not captured: an incremental backup would miss pages.
func TestChangedPagesAreAllOrAnError(t *testing.T) {
	p := newPast(t)
	p.state.Next = z.Start(1)
	kept := make(map[uint64]*journal.Segment)
	for n := uint64(1); n <= 5; n++ {
		kept[n] = p.put(n, page(int(n)), page(int(n)+10))
	}
	fork := blocks.Fork{Relation: wal.RelationRef{Space: 1663, Database: 5, Filenode: 100}}
	from, to := z.Start(2), z.Start(5)+40
	set, err := p.open().Blocks(ctx, from, to)
	require.NoError(t, err)
	changed, _ := set.Since(fork, 0, 100)
	assert.Equal(t, []uint32{2, 3, 4, 5, 12, 13, 14, 15}, changed)
	_, err = p.open().Blocks(ctx, from, z.Start(6))
	assert.NoError(t, err, "to the very end of what was captured")

	refused := func(says string, from, to pg.LSN) {
		t.Helper()
		_, err := p.open().Blocks(ctx, from, to)
		assert.ErrorContains(t, err, says)
	}
	refused("was not captured", from, z.Start(6)+1)
	refused("was not captured", z.Start(0)+40, to)
	late := func(n uint64, shift pg.LSN) { // tells only of records that begin later
		s := *kept[n]
		s.From += shift
		require.NoError(t, p.index.Put(ctx, &s))
	}
	for n := uint64(2); n <= 5; n++ {
		late(n, 80)
		refused("does not tell of every record", from, to)
		late(n, 0)
	}
	short := *kept[5] // ends before it should
	short.State.Next = to - 1
	require.NoError(t, p.index.Put(ctx, &short))
	refused("does not tell of every record", from, to)
	require.NoError(t, p.index.Put(ctx, kept[5]))
	early := *kept[4] // and one in the middle, after which a record is told by none
	early.State.Next -= 80
	require.NoError(t, p.index.Put(ctx, &early))
	refused("does not tell of every record", from, to)
	require.NoError(t, p.index.Put(ctx, kept[4]))
	require.NoError(t, p.store.Delete(ctx, store.IndexKey(p.cluster.ID, 1, pg.Segment{Timeline: 1, Number: 3}.Name(z))))
	refused("summary of segment", from, to)
}

// TestTheLastTransactionIn looks for it where it is not in the boundary's own segment, and where it was rolled back.
func TestTheLastTransactionIn(t *testing.T) {
	p := newPast(t)
	p.state.Next = z.Start(1)
	p.put(1, p.end(0x00, 1000), p.end(0x00, 1001), p.end(0x20, 1002))
	p.put(2, page(1), page(2))
	p.put(3, p.end(0x00, 1010), p.end(0x20, 1011), p.end(0x20, 1012), p.end(0x00, 1013))
	j := p.open()
	for _, c := range []struct {
		what string
		b    moment.Boundary
		in   pg.FullXID // 0 for none
		out  pg.FullXID
	}{
		{"in front of the first", moment.Boundary{Stop: z.Start(1)}, 0, 1000},
		{"after the first", moment.Boundary{Stop: z.Start(1), Inclusive: true}, 1000, 1001},
		{"in front of one that was rolled back", moment.Boundary{Stop: z.Start(1) + 160}, 1001, 1010},
		{"after it", moment.Boundary{Stop: z.Start(1) + 160, Inclusive: true}, 1001, 1010},
		{"a segment later", moment.Boundary{Stop: z.Start(2) + 80}, 1001, 1010},
		{"at the start of the next", moment.Boundary{Stop: z.Start(3)}, 1001, 1010},
		{"after two that were rolled back", moment.Boundary{Stop: z.Start(3) + 160, Inclusive: true}, 1010, 1013},
		{"at the very end", moment.Boundary{Stop: z.Start(4)}, 1013, 0},
	} {
		xid := func(k *journal.Commit) pg.FullXID {
			if k == nil {
				return 0
			}
			return k.XID
		}
		last, err := j.lastIn(ctx, &c.b)
		require.NoError(t, err, c.what)
		assert.Equal(t, c.in, xid(last), "%s, the last in", c.what)
		first, err := j.firstOut(ctx, &c.b)
		require.NoError(t, err, c.what)
		assert.Equal(t, c.out, xid(first), "%s, the first out", c.what)
	}
}

// TestWhatIsSureOfATime asks for times about which a record may still come, and for the base to begin from at times
// about which a commit may be on either side of it.
func TestWhatIsSureOfATime(t *testing.T) {
	p := newPast(t)
	p.state.Next = z.Start(1)
	p.put(1, p.end(0x00, 1000), p.end(0x00, 1001))
	j := p.open()
	j.archive.Bases = []reach.Base{{ID: "a", Timeline: 1, Start: z.Start(1), Stop: z.Start(1) + 40, StopTime: noon.Add(-time.Minute)}}
	complete := noon.Add(time.Hour)
	j.archive.Capture.CompleteTo.Time, j.archive.Capture.CompleteTo.Valid = complete, true
	for at, ok := range map[time.Time]bool{
		noon.Add(time.Second):       true,
		complete.Add(-Settle):       true,
		complete.Add(-Settle + 1e3): false,
		complete:                    false,
		complete.Add(time.Hour):     false,
	} {
		where, err := j.byTime(ctx, moment.Moment{Kind: moment.AtTime, Time: at})
		if ok {
			require.NoError(t, err, at)
			assert.Equal(t, place{z.Start(2), true}, where, at)
			continue
		}
		assert.ErrorContains(t, err, "beyond the captured WAL, which is surely complete to 2026-11-23T12:59:58Z", at)
	}
	j.archive.Bases = []reach.Base{{Start: 30, StopTime: noon}, {Start: 10, StopTime: noon.Add(-time.Hour)},
		{Start: 20, StopTime: noon.Add(-time.Minute)}}
	for at, want := range map[time.Time]pg.LSN{
		noon.Add(Settle):       20, // a commit of before it may be told after the base
		noon.Add(Settle + 1e3): 30,
		noon:                   20,
		noon.Add(-time.Minute): 10,
		noon.Add(-time.Hour):   10, // the oldest that may have ended before
	} {
		start, ok := j.baseBefore(at)
		assert.True(t, ok, at)
		assert.Equal(t, want, start, at)
	}
	_, ok := j.baseBefore(noon.Add(-time.Hour - 1))
	assert.False(t, ok)
}

// TestNearATime finds the one delete among several that was at about a time, and says which there are where it is not one.
func TestNearATime(t *testing.T) {
	p := newPast(t)
	for n := range uint64(4) {
		p.time = noon.Add(time.Duration(n) * 20 * time.Minute)
		p.segment(n+1, [][2]int{{3, 0}})
	}
	j := p.open()
	at := func(near time.Duration) (place, error) {
		where, _, err := j.byOperation(ctx, moment.Moment{Kind: moment.BeforeOperation, Operation: journal.Delete,
			Table: journal.Table{Name: "t100"}, Near: noon.Add(near)})
		return where, err
	}
	for near, want := range map[time.Duration]int{-15 * time.Minute: 0, 0: 0, 4 * time.Minute: 0, 18 * time.Minute: 1, 36 * time.Minute: 2,
		75 * time.Minute: 3} {
		where, err := at(near)
		require.NoError(t, err, near)
		assert.Equal(t, place{p.all[want].End, true}, where, near)
	}
	_, err := at(-15*time.Minute - time.Second)
	assert.ErrorContains(t, err, "within 15 minutes of")
	_, err = at(10 * time.Minute)
	assert.ErrorContains(t, err, "2 transactions match")
}

// TestTheNearestIsMeant takes of several operations the one that is far nearer to the time that was given than the next, and
// lists them by distance where none is.
func TestTheNearestIsMeant(t *testing.T) {
	p := newPast(t)
	for n := range uint64(12) {
		p.time = noon.Add(time.Duration(n) * 12500 * time.Millisecond)
		p.segment(n+1, [][2]int{{3, 5}})
	}
	j := p.open()
	for _, what := range []journal.Operation{journal.Delete, journal.Insert} {
		at := func(near time.Duration) (place, string, error) {
			return j.byOperation(ctx, moment.Moment{Kind: moment.BeforeOperation, Operation: what, Table: journal.Table{Name: "t100"},
				Near: noon.Add(near)})
		}
		where, note, err := at(25*time.Second + 500*time.Millisecond)
		require.NoError(t, err)
		assert.Equal(t, place{p.all[2].End, true}, where)
		assert.Equal(t, fmt.Sprintf("the nearest, 500ms away, where the next is 12s away (tx %d)", p.all[3].XID), note)
		where, _, err = at(-time.Second)
		require.NoError(t, err)
		assert.Equal(t, place{p.all[0].End, true}, where, "all are later")
		where, _, err = at(138 * time.Second)
		require.NoError(t, err)
		assert.Equal(t, place{p.all[11].End, true}, where, "all are earlier")
		_, _, err = at(29 * time.Second)
		var refused *problem.Problem
		require.ErrorAs(t, err, &refused, "4 s from one, 8.5 s from another")
		assert.Contains(t, refused.Detail, "transactions match, the nearest first")
		first := strings.Index(refused.Next, fmt.Sprintf("before tx %d ", p.all[2].XID))
		assert.Less(t, first, strings.Index(refused.Next, fmt.Sprintf("before tx %d ", p.all[3].XID)))
		assert.Positive(t, first)
	}
}

// TestOneOutweighsTheOthers takes of several operations the one that changed far more rows than any other.
func TestOneOutweighsTheOthers(t *testing.T) {
	p := newPast(t)
	p.segment(1, [][2]int{{1, 2}})
	p.segment(2, [][2]int{{100, 199}})
	p.segment(3, [][2]int{{1, 1}})
	j := p.open()
	before := func(what journal.Operation) (place, string, error) {
		return j.byOperation(ctx, moment.Moment{Kind: moment.BeforeOperation, Operation: what, Table: journal.Table{Name: "t100"}})
	}
	where, note, err := before(journal.Delete)
	require.NoError(t, err)
	assert.Equal(t, place{p.all[1].End, true}, where)
	assert.Contains(t, note, "chosen over other deletes of t100, of which the largest removed 1 row (")
	_, _, err = before(journal.Insert)
	require.ErrorContains(t, err, "3 transactions match", "199 rows are not a hundred times 2")
	_, _, err = before(journal.Update)
	require.ErrorContains(t, err, "no transaction in the captured WAL updated rows of t100")
}

// TestOneNameForTwoTables asks for the schema, and names each table once.
func TestOneNameForTwoTables(t *testing.T) {
	name := func(schema string) journal.TableChange {
		return journal.TableChange{Known: true, Name: journal.Name{Database: "saltmarsh", Schema: schema, Table: "shift"}}
	}
	unknown := name("nobody's")
	unknown.Known = false
	found := []Entry{{Tables: []journal.TableChange{name("crew"), unknown}}, {Tables: []journal.TableChange{name("public"), name("crew"),
		{Known: true, Name: journal.Name{Database: "saltmarsh", Schema: "crew", Table: "roster"}}}}}
	assert.Equal(t, []string{"saltmarsh.crew.shift", "saltmarsh.public.shift"},
		labels(found, moment.Moment{Table: journal.Table{Name: "shift"}}))
}

// TestChaptersThatLackSome reads what a chapter lacks from the indexes themselves, also of a segment with so much in it that
// its head is not in the first bytes.
func TestChaptersThatLackSome(t *testing.T) {
	p := newPast(t)
	for n := uint64(250); n < 270; n++ {
		many := make([][2]int, 3)
		if n == 253 {
			many = make([][2]int, 4000)
		}
		for i := range many {
			many[i] = [2]int{1, 1}
		}
		p.segment(n, many)
	}
	want, _, err := p.open().List(ctx, journal.Filter{}, true, 1<<20)
	require.NoError(t, err)
	require.Len(t, want, len(p.all))
	var heads []journal.Head
	require.NoError(t, p.index.Heads(ctx, 1, 250, 255, nil, func(h *journal.Head) (bool, error) {
		s, err := p.index.Get(ctx, h.Segment)
		require.NoError(t, err)
		heads = append(heads, s.Head)
		return true, nil
	}))
	require.Len(t, heads, 6)
	for lacking := range 1 << len(heads) {
		var some []journal.Head
		for i, h := range heads {
			if lacking&(1<<i) == 0 {
				some = append(some, h)
			}
		}
		chapter, _ := journal.EncodeChapter(some)
		_, err := p.store.Put(ctx, store.ChapterKey(p.cluster.ID, 1, 0), layout.S2, chapter)
		require.NoError(t, err)
		var seen []uint64
		require.NoError(t, p.index.Heads(ctx, 1, 251, 254, nil, func(h *journal.Head) (bool, error) {
			seen = append(seen, h.Segment.Number)
			return true, nil
		}))
		require.Equal(t, []uint64{251, 252, 253, 254}, seen, lacking)
	}
	got, _, err := p.open().List(ctx, journal.Filter{}, true, 1<<20)
	require.NoError(t, err)
	assert.Equal(t, xids(want), xids(got))
}

// TestNoMoreIsReadThanAnAnswerNeeds asks a history in which an index cannot be read: what needs it is an error, what does not is
// answered.
func TestNoMoreIsReadThanAnAnswerNeeds(t *testing.T) {
	p := newPast(t)
	for n := uint64(250); n < 270; n++ {
		p.segment(n, [][2]int{{1, 0}})
	}
	list := func(f journal.Filter, oldest bool, limit int) (ids []pg.FullXID, err error) {
		got, _, err := p.open().List(ctx, f, oldest, limit)
		return xids(got), err
	}
	want := xids(p.all)
	newest, err := list(journal.Filter{}, false, 3)
	require.NoError(t, err)
	assert.Equal(t, []pg.FullXID{want[19], want[18], want[17]}, newest)
	block := func(key string) { // a directory stands in its place, which cannot be read
		path := filepath.Join(p.store.First().String(), key)
		require.NoError(t, os.Remove(path))
		require.NoError(t, os.Mkdir(path, 0o700))
	}
	index := func(n uint64) string {
		return store.IndexKey(p.cluster.ID, 1, p.index.name(pg.Segment{Timeline: 1, Number: n}))
	}
	block(index(250))
	block(store.ChapterKey(p.cluster.ID, 1, 0))
	_, err = list(journal.Filter{}, true, 1)
	require.Error(t, err, "the oldest is in it")
	_, err = list(journal.Filter{}, false, 20)
	require.Error(t, err)
	again, err := list(journal.Filter{}, false, 3)
	require.NoError(t, err, "the newest chapter has enough")
	assert.Equal(t, newest, again)
	after, err := list(journal.Filter{After: z.Start(265)}, true, 2)
	require.NoError(t, err, "it lies before what was asked for")
	assert.Equal(t, []pg.FullXID{want[15], want[16]}, after)

	// Of the last chapter all heads are known, but one segment cannot be read.
	var heads []journal.Head
	take := func(h *journal.Head) (bool, error) { heads = append(heads, *h); return true, nil }
	require.NoError(t, p.index.Heads(ctx, 1, 256, 269, nil, take))
	chapter, _ := journal.EncodeChapter(heads)
	_, err = p.store.Put(ctx, store.ChapterKey(p.cluster.ID, 1, 1), layout.S2, chapter)
	require.NoError(t, err)
	block(index(262))
	_, err = list(journal.Filter{}, false, 10)
	require.Error(t, err, "an error on the way is not left out")
	_, err = list(journal.Filter{}, false, 3)
	require.NoError(t, err)
}

// TestRatesAreExact counts what was committed in each part of a span, also of a segment over several parts.
func TestRatesAreExact(t *testing.T) {
	p := newPast(t)
	p.segment(1, [][2]int{{1, 0}, {5, 0}, {2, 0}})
	list, err := p.open().Rates(ctx, noon, noon.Add(4*time.Second), 4)
	require.NoError(t, err)
	var deleted []int64
	for _, r := range list {
		deleted = append(deleted, r.Counts[journal.Delete])
	}
	assert.Equal(t, []int64{1, 5, 2, 0}, deleted)
}

// TestSentences are put together from what there is.
func TestSentences(t *testing.T) {
	assert.Equal(t, "", joined("", ""))
	assert.Equal(t, "a", joined("a", ""))
	assert.Equal(t, "b", joined("", "b"))
	assert.Equal(t, "a; b", joined("a", "b"))
	assert.Equal(t, "no rows of users' tables", Summary(Entry{}))
	assert.Equal(t, "delete 3 rows of booking", Summary(Entry{Tables: []journal.TableChange{{Known: true,
		Name: journal.Name{Schema: "public", Table: "booking"}, Counts: journal.Counts{journal.Delete: 3}}}}))
}

// TestStretches finds the stretch that holds a place, its last one included.
func TestStretches(t *testing.T) {
	j := &Journal{archive: &archive.Archive{Cluster: catalog.Cluster{SegmentSize: z}},
		stretches: []archive.Stretch{{First: 2, Last: 3, End: z.Start(4) - 100}, {First: 7, Last: 7, End: z.Start(8)}}}
	for at, first := range map[pg.LSN]uint64{z.Start(2) - 1: 0, z.Start(2): 2, z.Start(3): 2, z.Start(4) - 100: 2, z.Start(4) - 99: 0,
		z.Start(7): 7, z.Start(8): 7, z.Start(8) + 1: 0} {
		s, ok := j.stretchOf(at)
		assert.Equal(t, first != 0, ok, at)
		assert.Equal(t, first, s.First, at)
	}
}
