package journal

import (
	"cmp"
	"encoding/binary"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// server plays a server that writes WAL: transactions with savepoints, prepared ones, clocks that jump, crashes.
// It keeps every record of what is open, and puts together what a reader has to find when a transaction ends.
type server struct {
	log
	t      *rapid.T
	next   pg.FullXID // to be given out
	stock  pg.FullXID // next when the first stock of running transactions was taken; 0 before
	epoch  bool       // a checkpoint has told it
	work   map[pg.FullXID][]effect
	open   []*running
	wanted []Transaction
	epochs []bool               // of wanted, whether the epoch was known
	pairs  [][2]wal.RelationRef // files replaced by the transaction that ended last, and
	mixed  bool                 // whether several of its ids made files
	marks  int                  // restore points since the last cut
}

// running is a transaction that runs, with its savepoints that still stand.
type running struct {
	xid      pg.FullXID
	subs     []pg.FullXID
	gid      string
	early    bool                 // it began before the log
	replaced [][2]wal.RelationRef // files, old and new, in the order in which they were replaced
}

// effect is what one record does.
type effect struct {
	at                             pg.LSN
	bytes                          int64
	change                         Change
	created, filled                []wal.RelationRef
	truncated, newBases, lostBases []uint32
}

// files differ from each other by each part.
var files = []wal.RelationRef{booking, passenger, ref(1, 2, 3), ref(1663, 2, 3), ref(1, 5, 16385)}

func newServer(t *rapid.T) *server {
	s := &server{t: t, work: make(map[pg.FullXID][]effect)}
	s.next = pg.FullXID(rapid.SampledFrom([]uint64{1<<32 | 100, 2<<32 - 20, 100}).Draw(t, "first xid"))
	for range rapid.IntRange(0, 3).Draw(t, "of before") {
		s.open = append(s.open, &running{xid: s.give(), early: true})
	}
	return s
}

func (s *server) pick(what string, n int) int { return rapid.IntRange(0, n-1).Draw(s.t, what) }

// give gives out an id. The first three of an epoch are no transaction's.
func (s *server) give() pg.FullXID {
	x := s.next
	if s.next++; pg.XID(s.next) == 0 {
		s.next += 3
	}
	return x
}

// step writes a record.
func (s *server) step() *wal.Record {
	s.clock = noon.Add(time.Duration(rapid.IntRange(-90, 90).Draw(s.t, "clock")) * time.Second)
	what := s.pick("what", 20)
	var r *running
	if len(s.open) > 0 {
		r = s.open[s.pick("whose", len(s.open))]
	}
	switch {
	case what == 0:
		return s.takeStock()
	case what == 1:
		s.epoch = true
		return s.checkpoint(0x10, s.next)
	case what == 2 && s.pick("restart", 4) == 0:
		return s.restart()
	case what == 3:
		s.marks++
		return s.mark("low tide")
	case r == nil || what == 4:
		r = &running{xid: s.give()}
		s.open = append(s.open, r)
		return s.write(r, r.xid)
	case r.gid != "":
		if what < 12 {
			return s.finish(r, what < 9)
		}
		return s.record(wal.ManagerXLOG, 0xB0, 0, nil, booking) // an image, by nobody
	case what < 8:
		return s.finish(r, what < 7)
	case what == 8:
		return s.prepareWhole(r)
	case what == 9 && len(r.subs) > 0:
		return s.rollBack(r)
	case what < 12:
		r.subs = append(r.subs, s.give())
		return s.write(r, r.subs[len(r.subs)-1])
	}
	return s.write(r, append(r.subs, r.xid)[s.pick("as", len(r.subs)+1)])
}

// write does something as one id of a transaction.
func (s *server) write(r *running, as pg.FullXID) *wal.Record {
	xid, rel := pg.XID(as), files[s.pick("file", len(files))]
	var rec *wal.Record
	var e effect
	switch s.pick("write", 12) {
	case 0, 1:
		rec, e.change = s.insert(xid, rel), Change{rel, 1, 0, 0}
	case 2:
		rec, e.change = s.update(xid, rel), Change{rel, 0, 1, 0}
	case 3, 4:
		rec, e.change = s.remove(xid, rel, 0), Change{rel, 0, 0, 1}
	case 5:
		var done Change
		for _, o := range s.work[as] {
			if o.change.Relation == rel {
				done.plus(o.change)
			}
		}
		if done.Inserted == 0 {
			rec, e.change = s.insert(xid, rel), Change{rel, 1, 0, 0}
			break
		}
		rec, e.change = s.remove(xid, rel, 1<<3), Change{rel, -1, 0, 0} // a speculative insertion is taken back
	case 6:
		n := rapid.IntRange(1, 500).Draw(s.t, "rows")
		rec, e.change = s.multi(xid, rel, uint16(n)), Change{rel, int64(n), 0, 0}
	case 7:
		made := wal.RelationRef{Space: 1663, Database: 5, Filenode: 20_000 + uint32(s.at)}
		rec, e.created = s.create(xid, made), []wal.RelationRef{made}
		if len(r.replaced) < 8 {
			r.replaced = append(r.replaced, [2]wal.RelationRef{{Space: 1663, Database: 5, Filenode: 10_000 + uint32(s.at)}, made})
		}
	case 8:
		rec = s.record(wal.ManagerXLOG, 0xB0, xid, nil, rel) // an image of a page
		if i := slices.IndexFunc(s.work[as], func(o effect) bool { return len(o.created) > 0 }); i >= 0 {
			made, fork := s.work[as][i].created[0], s.pick("fork", 3)
			rec.Blocks[0] = wal.Block{Space: made.Space, Database: made.Database, Filenode: made.Filenode, Fork: uint8(fork)}
			if fork == 0 && !slices.ContainsFunc(s.work[as], func(o effect) bool { return slices.Contains(o.filled, made) }) {
				e.filled = []wal.RelationRef{made}
			}
		}
	case 9:
		rec = s.record(wal.ManagerHeap, 0x30, xid, binary.LittleEndian.AppendUint32([]byte{5, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0}, 16384))
		rec.Blocks, e.truncated = nil, []uint32{16384}
	case 10:
		rec, e.lostBases = s.record(wal.ManagerDatabase, 0x20, xid, []byte{9, 0, 0, 0, 1, 0, 0, 0, 0x7f, 6, 0, 0}), []uint32{9}
	default:
		rec, e.newBases = s.record(wal.ManagerDatabase, 0x00, xid, []byte{8, 0, 0, 0, 0x7f, 6, 0, 0, 1, 0, 0, 0, 0x7f, 6, 0, 0}),
			[]uint32{8}
	}
	e.at, e.bytes = rec.Start, int64(rec.Length)
	s.work[as] = append(s.work[as], e)
	return rec
}

func (s *server) takeStock() *wal.Record {
	oldest := s.next
	for _, r := range s.open { // a prepared one runs, too
		oldest = min(oldest, r.xid)
	}
	if s.stock == 0 {
		s.stock = s.next
	}
	b := make([]byte, 12)
	for _, x := range []pg.FullXID{s.next, oldest, s.next - 1} {
		b = binary.LittleEndian.AppendUint32(b, uint32(x))
	}
	return s.record(wal.ManagerStandby, 0x10, 0, b)
}

// restart ends the server, in order or by a crash: what was prepared goes on, of the rest nothing more is heard.
func (s *server) restart() *wal.Record {
	s.open = slices.DeleteFunc(s.open, func(r *running) bool {
		if r.gid != "" {
			return false
		}
		for _, x := range append(r.subs, r.xid) {
			delete(s.work, x)
		}
		return true
	})
	if s.pick("by", 2) == 0 {
		return s.record(wal.ManagerXLOG, 0x90, 0, make([]byte, 16)) // end of recovery
	}
	if s.epoch = true; s.stock == 0 {
		s.stock = s.next
	}
	return s.checkpoint(0x00, s.next)
}

func short(list []pg.FullXID) (ids []pg.XID) {
	for _, x := range list {
		ids = append(ids, pg.XID(x))
	}
	return ids
}

// prepareWhole is the first phase, of a transaction with its savepoints.
func (s *server) prepareWhole(r *running) *wal.Record {
	r.gid = strings.Repeat("tide", s.pick("length", 3)+1)
	rec := s.prepare(pg.XID(r.xid), r.gid)
	binary.LittleEndian.PutUint32(rec.Main[28:], uint32(len(r.subs)))
	for _, x := range r.subs {
		rec.Main = binary.LittleEndian.AppendUint32(rec.Main, uint32(x))
	}
	s.work[r.xid] = append(s.work[r.xid], effect{at: rec.Start, bytes: int64(rec.Length)})
	return rec
}

// rollBack ends one savepoint.
func (s *server) rollBack(r *running) *wal.Record {
	i := s.pick("savepoint", len(r.subs))
	sub := r.subs[i]
	r.subs = slices.Delete(r.subs, i, i+1)
	for _, e := range s.work[sub] {
		r.replaced = slices.DeleteFunc(r.replaced, func(p [2]wal.RelationRef) bool { return len(e.created) > 0 && p[1] == e.created[0] })
	}
	rec := s.end(0x20, pg.XID(sub), nil)
	s.want(rec, Transaction{XID: sub}, sub)
	return rec
}

// finish ends a transaction.
func (s *server) finish(r *running, commits bool) *wal.Record {
	s.open = slices.DeleteFunc(s.open, func(o *running) bool { return o == r })
	op, dropped := uint8(0x20), []wal.RelationRef(nil)
	if commits {
		op = 0x00
		for _, p := range slices.Backward(r.replaced) {
			dropped = append(dropped, p[0])
		}
	}
	if r.gid != "" {
		op = map[uint8]uint8{0x00: 0x30, 0x20: 0x40}[op]
	}
	rec := s.end(op, pg.XID(r.xid), short(r.subs), dropped...)
	makers := 0
	for _, id := range append([]pg.FullXID{r.xid}, r.subs...) {
		if slices.ContainsFunc(s.work[id], func(e effect) bool { return len(e.created) > 0 }) {
			makers++
		}
	}
	if s.pairs, s.mixed = r.replaced, makers > 1; !commits {
		s.pairs = nil
	}
	t := Transaction{XID: r.xid, Subxacts: short(r.subs), Committed: commits, TwoPhase: r.gid != "", GID: r.gid, Dropped: dropped,
		Partial: r.early}
	s.want(rec, t, append([]pg.FullXID{r.xid}, r.subs...)...)
	return rec
}

// want puts together what is to be found of the given ids.
func (s *server) want(end *wal.Record, t Transaction, ids ...pg.FullXID) {
	t.First, t.End, t.Time, t.Bytes = end.Start, end.Start, s.clock, int64(end.Length)
	for _, id := range ids {
		for _, e := range s.work[id] {
			t.First = min(t.First, e.at)
			t.Bytes += e.bytes
			t.Created, t.Filled = append(t.Created, e.created...), append(t.Filled, e.filled...)
			t.Truncated = append(t.Truncated, e.truncated...)
			t.NewDatabases, t.DroppedDatabases = append(t.NewDatabases, e.newBases...), append(t.DroppedDatabases, e.lostBases...)
			if e.change == (Change{}) {
				continue
			}
			i := slices.IndexFunc(t.Changes, func(c Change) bool { return c.Relation == e.change.Relation })
			if i < 0 {
				t.Changes = append(t.Changes, Change{Relation: e.change.Relation})
				i = len(t.Changes) - 1
			}
			t.Changes[i].plus(e.change)
		}
		delete(s.work, id)
	}
	t.Changes = slices.DeleteFunc(t.Changes, func(c Change) bool { return c == (Change{Relation: c.Relation}) })
	if len(t.Changes) > 0 {
		t.Database = t.Changes[0].Relation.Database
	}
	s.wanted, s.epochs = append(s.wanted, t), append(s.epochs, s.epoch)
}

// TestJournalAgainstAModel reads what a server may write, cut into segments at random places, each of which goes
// on from what was written of the one before, and finds every transaction with all that it did, and no more.
func TestJournalAgainstAModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := newServer(t)
		r := NewRecorder(pg.Segment{Timeline: 1}, z, State{})
		cut := func() {
			seg, err := r.Segment(s.at+64, names(known))
			require.NoError(t, err)
			again, err := DecodeIndex(seg.Encode())
			require.NoError(t, err)
			require.Equal(t, seg.Head, again.Head)
			require.Equal(t, seg.Blocks, again.Blocks)
			head, err := DecodeHead(seg.Encode())
			require.NoError(t, err)
			require.Equal(t, seg.Head, head)
			s.compare(again)
			r = NewRecorder(pg.Segment{Timeline: 1, Number: again.Segment.Number + 1}, z, again.State)
		}
		for range rapid.IntRange(1, 150).Draw(t, "records") {
			s.pairs, s.mixed = nil, false
			tx, err := r.See(s.step(), pg.Major(15))
			require.NoError(t, err)
			if pairs := s.pairs; len(pairs) > 0 {
				if s.mixed {
					pairs = nil // which was made first is not known
				}
				require.Equal(t, pairs, inOrder(tx.Replacements()), "files and what replaced them")
			}
			if rapid.IntRange(0, 9).Draw(t, "cut") == 0 {
				cut()
			}
		}
		cut()
	})
}

// inOrder sorts pairs as they were made.
func inOrder(pairs [][2]wal.RelationRef) [][2]wal.RelationRef {
	slices.SortFunc(pairs, func(x, y [2]wal.RelationRef) int { return cmp.Compare(x[0].Filenode, y[0].Filenode) })
	return pairs
}

// compare holds an index against what ended since the one before.
func (s *server) compare(seg *Segment) {
	var got []Transaction
	for tx, err := range seg.Transactions() {
		require.NoError(s.t, err)
		got = append(got, tx)
	}
	require.Len(s.t, got, len(s.wanted))
	for i := range got {
		want := s.wanted[i]
		// It may be said of more than it is true of, but never not said; and of nothing that began after the first stock.
		require.True(s.t, got[i].Partial || !want.Partial, "tx %d began before the log", want.XID)
		if s.stock != 0 && want.First > 0 && s.wide(want.XID) >= s.stock {
			require.False(s.t, got[i].Partial, "tx %d began after the first stock", want.XID)
		}
		found := got[i]
		if want.Partial = found.Partial; !s.epochs[i] {
			want.XID, found.XID = pg.FullXID(pg.XID(want.XID)), pg.FullXID(pg.XID(found.XID))
		}
		require.Equal(s.t, normal(want), normal(found))
	}
	require.Len(s.t, seg.RestorePoints, s.marks)
	require.Equal(s.t, summed(got, seg), seg.Head, "the head is the sum of its transactions")
	s.wanted, s.epochs, s.marks = nil, nil, 0
}

func (s *server) wide(x pg.FullXID) pg.FullXID { return pg.XID(x).Near(s.next) }

// normal makes empty lists nil, and puts changes in order, so that what was decoded compares.
func normal(t Transaction) Transaction {
	empty := func(list *[]wal.RelationRef) {
		if len(*list) == 0 {
			*list = nil
		}
	}
	empty(&t.Created)
	empty(&t.Filled)
	empty(&t.Dropped)
	for _, list := range []*[]uint32{&t.Truncated, &t.NewDatabases, &t.DroppedDatabases} {
		if len(*list) == 0 {
			*list = nil
		}
	}
	if len(t.Subxacts) == 0 {
		t.Subxacts = nil
	}
	if t.Changes = slices.Clone(t.Changes); len(t.Changes) == 0 {
		t.Changes = nil
	}
	return t
}

// summed is the head that a segment's transactions give, each table by itself.
func summed(list []Transaction, seg *Segment) Head {
	h := Head{Segment: seg.Segment, From: seg.From, To: seg.To, End: seg.End, Records: seg.Records, Bytes: seg.Bytes,
		RestorePoints: seg.RestorePoints}
	var ids []pg.FullXID
	var commits []Transaction
	for _, t := range list {
		ids = append(ids, t.XID)
		for _, sub := range t.Subxacts {
			ids = append(ids, sub.Near(t.XID))
		}
		if t.Committed {
			commits = append(commits, t)
		}
	}
	h.Commits, h.Aborts = int64(len(commits)), int64(len(list)-len(commits))
	if len(ids) > 0 {
		h.MinXID, h.MaxXID = slices.Min(ids), slices.Max(ids)
	}
	if len(commits) > 0 {
		byTime := func(x, y Transaction) int { return x.Time.Compare(y.Time) }
		h.Earliest, h.Latest = slices.MinFunc(commits, byTime).Time, slices.MaxFunc(commits, byTime).Time
		first, last := commits[0], commits[len(commits)-1]
		h.First, h.Last = Commit{first.XID, first.End, first.Time}, Commit{last.XID, last.End, last.Time}
	}
	for _, t := range commits {
		var users Counts
		for _, c := range t.Tables(seg.Lookup) {
			i := slices.IndexFunc(h.Tables, func(s TableSum) bool {
				return s.Known == c.Known && s.Name == c.Name &&
					(s.Known || s.File == c.File)
			})
			if i < 0 {
				h.Tables = append(h.Tables, TableSum{Name: c.Name, Known: c.Known, File: c.File})
				i = len(h.Tables) - 1
			}
			for k, n := range c.Counts {
				h.Tables[i].Sum[k] += n
				h.Tables[i].Most[k] = max(h.Tables[i].Most[k], n)
				users[k] += n
			}
		}
		users[Drop] += int64(len(t.DroppedDatabases))
		for k, n := range users {
			h.Most[k] = max(h.Most[k], n)
		}
		h.MostRows = max(h.MostRows, users.Rows())
	}
	return h
}
