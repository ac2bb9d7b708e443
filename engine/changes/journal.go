// Package changes keeps the change journal of a cluster in the store, and answers questions about it: which
// transactions did what, the largest, the boundary that a moment means, and what going back there costs.
//
// Invariant: the WAL is the truth. What is in the store is read from indexes, and an index that is absent or damaged is
// made again; what is still in the spool is read from the WAL itself, so that an answer covers all that is captured.
// Everything follows the way to the newest timeline. What there is of WAL and base backups is package archive's to say.
package changes

import (
	"context"
	"errors"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/server/names"
)

// Journal is the journal of one cluster as it was when it was opened.
type Journal struct {
	archive   *archive.Archive
	index     *Indexes
	book      *names.Book
	stretches []archive.Stretch
	tail      map[uint64]*journal.Segment // of segments that are not in the store yet
}

// Entry is a transaction with what it did to tables.
type Entry struct {
	journal.Transaction
	Tables  []journal.TableChange
	Dropped []journal.Name // objects other than tables
	// Alterations say what was changed of tables that were altered.
	Alterations []string
	Size        int64 // in the measure of the query
	addsColumns bool
}

// Open reads what is not indexed yet, and prepares to read the rest.
func Open(ctx context.Context, a *archive.Archive, codec layout.Codec, book *names.Book) (*Journal, error) {
	j := &Journal{
		archive: a, book: book, stretches: a.Stretches(), tail: make(map[uint64]*journal.Segment),
		index: &Indexes{Store: a.Store, Codec: codec, Cluster: a.Cluster, Histories: a.Histories(), Names: book.Now(), Open: a.OpenSegment},
	}
	for _, s := range j.stretches {
		for n := j.firstOfTail(s); n <= s.Last; n++ {
			if err := j.readTail(ctx, n); err != nil {
				return nil, err
			}
		}
	}
	return j, nil
}

// firstOfTail is the number of the first segment of a stretch that is not in the
// store, or the one after its last.
func (j *Journal) firstOfTail(s archive.Stretch) uint64 {
	n := s.Last + 1
	for n > s.First && !j.archive.Stored(j.archive.SegmentOf(n-1)) {
		n--
	}
	return n
}

// readTail reads a segment that is not in the store yet.
func (j *Journal) readTail(ctx context.Context, n uint64) error {
	seg := j.archive.SegmentOf(n)
	before, err := j.before(ctx, n)
	if err != nil {
		return err
	}
	r := journal.NewRecorder(seg, j.archive.Cluster.SegmentSize, before)
	end, err := j.index.Record(ctx, r, seg, func(t *journal.Transaction) error {
		j.book.See(t)
		return nil
	})
	var damage *wal.Damage
	if errors.As(err, &damage) && damage.LSN >= j.archive.Capture.FlushedLSN {
		end, err = damage.LSN, nil // bytes that were never safe
	}
	if err != nil {
		return err
	}
	j.tail[n], err = r.Segment(end, j.book.Now())
	return err
}

// before is the state in which the journal stands at a segment's beginning.
func (j *Journal) before(ctx context.Context, n uint64) (journal.State, error) {
	if n > 0 {
		if s := j.tail[n-1]; s != nil {
			return s.State, nil
		}
	}
	return j.index.Before(ctx, j.archive.SegmentOf(n))
}

// segment reads the journal of one segment.
func (j *Journal) segment(ctx context.Context, n uint64) (*journal.Segment, error) {
	if s := j.tail[n]; s != nil {
		return s, nil
	}
	return j.index.Get(ctx, j.archive.SegmentOf(n))
}

// heads visits the heads of the captured segments numbered from first to last, in
// order, until visit has had enough. A head is good until the next.
func (j *Journal) heads(ctx context.Context, first, last uint64, visit func(*journal.Head) (more bool, err error)) error {
	return j.scan(ctx, first, last, nil, visit)
}

// scan visits heads as heads does, or where enough says that it suffices, only the sum of many.
func (j *Journal) scan(ctx context.Context, first, last uint64, enough func(all *journal.Head) bool,
	visit func(*journal.Head) (more bool, err error)) error {
	more := true
	show := func(h *journal.Head) (bool, error) {
		var err error
		more, err = visit(h)
		return more, err
	}
	for _, s := range j.stretches {
		tail := j.firstOfTail(s)
		for n, end := max(first, s.First), min(last, s.Last); n <= end && more; {
			if n >= tail {
				if _, err := show(&j.tail[n].Head); err != nil {
					return err
				}
				n++
				continue
			}
			seg := j.archive.SegmentOf(n)
			to := n
			for to < end && to+1 < tail && j.archive.SegmentOf(to+1).Timeline == seg.Timeline {
				to++
			}
			if err := j.index.Heads(ctx, seg.Timeline, n, to, enough, show); err != nil {
				return err
			}
			n = to + 1
		}
	}
	return nil
}

// all visits every head, or the sum of many.
func (j *Journal) all(ctx context.Context, enough func(*journal.Head) bool, visit func(*journal.Head) (bool, error)) error {
	return j.scan(ctx, 0, ^uint64(0), enough, visit)
}

// lookup finds names as they were known by a time, or else as a segment knows them, or as they were learned later.
func (j *Journal) lookup(s *journal.Segment, at time.Time) journal.Lookup {
	then, late := j.book.Then(at), j.book.At(at)
	return func(ref wal.RelationRef) (journal.Name, bool) {
		if n, ok := then(ref); ok {
			return n, true
		}
		if n, ok := s.Lookup(ref); ok {
			return n, true
		}
		return late(ref)
	}
}

// entry adds to a transaction of a segment what it did to tables.
func (j *Journal) entry(s *journal.Segment, t journal.Transaction) Entry {
	names := j.lookup(s, t.Time)
	return Entry{Transaction: t, Tables: t.Tables(names), Dropped: t.DroppedObjects(names), Alterations: t.Alterations(names),
		addsColumns: len(t.Altered) > 0 && t.AddsColumns(names)}
}

// Open lists the transactions that had written and not ended when the known WAL ends.
func (j *Journal) Open() []journal.Open {
	if s := j.last(); s != nil {
		return s.State.Open
	}
	return nil
}

// last is the journal of the last captured segment, if that is still in the spool.
func (j *Journal) last() *journal.Segment {
	if n := len(j.stretches); n > 0 {
		return j.tail[j.stretches[n-1].Last]
	}
	return nil
}

// stretchOf finds the stretch that holds an LSN, or ends at it.
func (j *Journal) stretchOf(l pg.LSN) (archive.Stretch, bool) {
	for _, s := range j.stretches {
		if j.archive.Cluster.SegmentSize.Start(s.First) <= l && l <= s.End {
			return s, true
		}
	}
	return archive.Stretch{}, false
}
