package changes

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
)

// candidate is a segment in which there may be wanted transactions, or a chapter of them.
type candidate struct {
	first, last uint64 // numbers of segments
	bound       int64  // how large one can be at most
}

// candidates finds them among the segments numbered from first to last: whole chapters where their sums are at hand.
func (j *Journal) candidates(ctx context.Context, f *journal.Filter, first, last uint64, chapters bool) ([]candidate, error) {
	var list []candidate
	late := j.book.Now()
	note := func(h *journal.Head, segments uint64) {
		if bound, ok := f.Bound(h, late); ok {
			list = append(list, candidate{h.Segment.Number, h.Segment.Number + segments - 1, bound})
		}
	}
	whole := func(all *journal.Head) bool { note(all, journal.ChapterSize); return true }
	if !chapters {
		whole = nil
	}
	err := j.scan(ctx, first, last, whole, func(h *journal.Head) (bool, error) { note(h, 1); return true, nil })
	return list, err
}

// matching reads the wanted transactions of a segment, in the order of the log.
func (j *Journal) matching(ctx context.Context, n uint64, f *journal.Filter) ([]Entry, error) {
	s, err := j.segment(ctx, n)
	if err != nil {
		return nil, err
	}
	var list []Entry
	for t, err := range s.Transactions() {
		if err != nil {
			return nil, err
		}
		e := j.entry(s, t)
		var ok bool
		if e.Size, ok = f.Match(&e.Transaction, e.Tables, e.Dropped); ok {
			list = append(list, e)
		}
	}
	return list, nil
}

// List gives up to limit wanted transactions: the newest ones, newest first, or with
// oldest the oldest ones, oldest first. more tells whether there are others. It reads
// no further than it must.
func (j *Journal) List(ctx context.Context, f journal.Filter, oldest bool, limit int) (list []Entry, more bool, err error) {
	f.Ever = j.ever(&f)
	take := func(n uint64) error {
		part, err := j.matching(ctx, n, &f)
		if !oldest {
			slices.Reverse(part)
		}
		list = append(list, part[:min(len(part), max(0, limit+1-len(list)))]...)
		return err
	}
	if oldest {
		err = j.listUp(ctx, &f, func(n uint64) (bool, error) { return len(list) <= limit, take(n) })
	} else {
		err = j.listDown(ctx, &f, func(n uint64) (bool, error) { return len(list) <= limit, take(n) })
	}
	if err != nil {
		return nil, false, err
	}
	if len(list) > limit {
		return list[:limit], true, nil
	}
	return list, false, nil
}

// ever are the tables that a filter may mean, whatever segments call them.
func (j *Journal) ever(f *journal.Filter) map[journal.TableID]bool {
	if f.Table == (journal.Table{}) || f.Object != journal.Main {
		return nil
	}
	return j.book.Ever(f.Table)
}

// listUp visits the segments in which there may be wanted transactions, oldest first.
func (j *Journal) listUp(ctx context.Context, f *journal.Filter, visit func(uint64) (more bool, err error)) error {
	late := j.book.Now()
	first := uint64(0)
	if f.After > 0 {
		first = j.archive.Cluster.SegmentSize.Number(f.After)
	}
	none := func(all *journal.Head) bool { _, ok := f.Bound(all, late); return !ok }
	return j.scan(ctx, first, ^uint64(0), none, func(h *journal.Head) (bool, error) {
		if _, ok := f.Bound(h, late); !ok {
			return true, nil
		}
		return visit(h.Segment.Number)
	})
}

// listDown visits them newest first, a chapter at a time.
func (j *Journal) listDown(ctx context.Context, f *journal.Filter, visit func(uint64) (more bool, err error)) error {
	if len(j.stretches) == 0 {
		return nil
	}
	late := j.book.Now()
	last := j.stretches[len(j.stretches)-1].Last
	if f.Before > 0 {
		last = min(last, j.archive.Cluster.SegmentSize.Number(f.Before)+1)
	}
	for {
		first := last / journal.ChapterSize * journal.ChapterSize
		var where []uint64
		none := func(all *journal.Head) bool { _, ok := f.Bound(all, late); return !ok }
		err := j.scan(ctx, first, last, none, func(h *journal.Head) (bool, error) {
			if _, ok := f.Bound(h, late); ok {
				where = append(where, h.Segment.Number)
			}
			return true, nil
		})
		if err != nil {
			return err
		}
		for _, n := range slices.Backward(where) {
			if more, err := visit(n); err != nil || !more {
				return err
			}
		}
		if first <= j.stretches[0].First {
			return nil
		}
		last = first - 1
	}
}

// Biggest gives the wanted transactions that are largest by the filter's measure, the
// largest first. It reads no more segments than can hold one of them.
func (j *Journal) Biggest(ctx context.Context, f journal.Filter, limit int) ([]Entry, error) {
	f.Ever = j.ever(&f)
	where, err := j.candidates(ctx, &f, 0, ^uint64(0), true)
	if err != nil {
		return nil, err
	}
	var best []Entry
	for len(where) > 0 {
		slices.SortStableFunc(where, func(a, b candidate) int { return cmp.Compare(b.bound, a.bound) })
		c := where[0]
		where = where[1:]
		if len(best) == limit && best[limit-1].Size >= c.bound {
			break
		}
		if c.first < c.last {
			segments, err := j.candidates(ctx, &f, c.first, c.last, false)
			if err != nil {
				return nil, err
			}
			where = append(where, segments...)
			continue
		}
		part, err := j.matching(ctx, c.first, &f)
		if err != nil {
			return nil, err
		}
		best = append(best, part...)
		slices.SortStableFunc(best, func(a, b Entry) int {
			return cmp.Or(cmp.Compare(b.Size, a.Size), cmp.Compare(b.End, a.End))
		})
		best = best[:min(len(best), limit)]
	}
	return best, nil
}

// ByXID finds what has ended under an id, or with it as a sub-transaction, in the order
// of the log. An id below 2^32 is looked for in every epoch.
func (j *Journal) ByXID(ctx context.Context, x pg.FullXID) ([]Entry, error) {
	same := func(full pg.FullXID) bool { return full == x || x < 1<<32 && pg.XID(full) == pg.XID(x) }
	var where []uint64
	may := func(h *journal.Head) bool {
		full := x
		if x < 1<<32 {
			full = pg.XID(x).Near(h.MaxXID)
		}
		return h.MaxXID != 0 && h.MinXID <= full && full <= h.MaxXID
	}
	err := j.all(ctx, func(all *journal.Head) bool { return !may(all) }, func(h *journal.Head) (bool, error) {
		if may(h) {
			where = append(where, h.Segment.Number)
		}
		return true, nil
	})
	if err != nil {
		return nil, err
	}
	var found []Entry
	for _, n := range where {
		s, err := j.segment(ctx, n)
		if err != nil {
			return nil, err
		}
		for t, err := range s.Transactions() {
			if err != nil {
				return nil, err
			}
			if same(t.XID) || slices.ContainsFunc(t.Subxacts, func(sub pg.XID) bool { return same(sub.Near(t.XID)) }) {
				found = append(found, j.entry(s, t))
			}
		}
	}
	return found, nil
}

// RestorePoints lists the named restore points, oldest first.
func (j *Journal) RestorePoints(ctx context.Context) ([]journal.RestorePoint, error) {
	var list []journal.RestorePoint
	take := func(h *journal.Head) bool { list = append(list, h.RestorePoints...); return true }
	err := j.all(ctx, take, func(h *journal.Head) (bool, error) { return take(h), nil })
	return list, err
}

// Around gives the committed transactions that changed something, up to n on each side
// of a boundary, in the order of the log, and how many of them are kept.
func (j *Journal) Around(ctx context.Context, keeps func(pg.LSN) bool, at pg.LSN, n int) (list []Entry, kept int, err error) {
	var f journal.Filter
	f.Before = at + 1
	if !keeps(at) {
		f.Before = at
	}
	before, _, err := j.List(ctx, f, false, n)
	if err != nil {
		return nil, 0, err
	}
	slices.Reverse(before)
	f = journal.Filter{After: at}
	if !keeps(at) && at > 0 {
		f.After = at - 1
	}
	after, _, err := j.List(ctx, f, true, n)
	return append(before, after...), len(before), err
}

// Each visits the transactions whose last record begins at or after an LSN, in the order of the log. Each is good until the next.
func (j *Journal) Each(ctx context.Context, from pg.LSN, visit func(*journal.Segment, *journal.Transaction) error) error {
	z := j.archive.Cluster.SegmentSize
	return j.heads(ctx, z.Number(from), ^uint64(0), func(h *journal.Head) (bool, error) {
		if h.Commits+h.Aborts == 0 {
			return true, nil
		}
		s, err := j.segment(ctx, h.Segment.Number)
		if err != nil {
			return false, err
		}
		err = s.Each(func(t *journal.Transaction) error {
			if t.End < from {
				return nil
			}
			return visit(s, t)
		})
		return true, errors.Join(err, ctx.Err())
	})
}

// Names finds what files are called, as they were at a transaction's time.
func (j *Journal) Names(s *journal.Segment, t *journal.Transaction) journal.Lookup {
	return j.lookup(s, t.Time)
}
