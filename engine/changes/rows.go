package changes

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/rows"
	"velvetrewind/core/value"
	"velvetrewind/core/wal"
	"velvetrewind/engine/server/access"
)

// lookBack is from how many segments before the transaction the pages are followed that it changes.
const lookBack = 16

// Rows are what a transaction changed in a table.
type Rows struct {
	Entry Entry
	List  []Row // in the order of the log
	More  bool  // there are others
	From  pg.LSN
	// Unseen says that of some row it is not known what the columns were.
	Unseen bool
	Gone   []journal.TableChange // what was truncated or dropped, whose rows are not in the WAL
}

// SeeColumns asks a cluster what the columns of a database's tables are now, which is otherwise done from time to time.
func (j *Journal) SeeColumns(ctx context.Context, a access.Access, database string) error {
	return j.book.SeeColumns(ctx, a, database)
}

// Row is a row that was changed.
type Row struct {
	rows.Change
	Table journal.Name // that it lies in, which may be a partition
	// Before and After are its values; nil where there is no such form, or for the reason in Why.
	Before, After []value.Cell
	Why           string
}

// Rows finds the rows that a transaction changed in a table, or in what stands below it, at most limit.
func (j *Journal) Rows(ctx context.Context, e Entry, t journal.Table, limit int) (Rows, error) {
	found := Rows{Entry: e}
	touched := false
	for _, c := range e.Tables {
		touched = touched || c.Known && t.Covers(c.Name)
		if c.Known && t.Covers(c.Name) && c.File.Space != 0 && c.Counts[journal.Truncate]+c.Counts[journal.Drop] > 0 {
			found.Gone = append(found.Gone, c)
		}
	}
	if !touched {
		next := fmt.Sprintf("See what it did: velvet changes show %s %d", j.archive.Cluster.Name, e.XID)
		return found, problem.New(problem.NotFound, next, "there are no rows to show", "transaction %d changed no table %s", e.XID, t)
	}
	files, err := j.filesOf(ctx, &e, t.Covers)
	if err != nil || len(files.Tables) == 0 {
		return found, err
	}
	files.Limit = limit
	scout := rows.NewScout(files.Wanted)
	z := j.archive.Cluster.SegmentSize
	err = j.follow(ctx, z.Number(e.First), e.First, e.End, func(r *wal.Record, _ *pg.Version) (bool, error) { return scout.See(r) })
	if err != nil {
		return found, err
	}
	finder := scout.Finder()
	found.From, err = j.lookFrom(e.First)
	if err != nil {
		return found, err
	}
	err = j.follow(ctx, z.Number(found.From), found.From, e.End, func(r *wal.Record, v *pg.Version) (bool, error) {
		return finder.Done(), finder.See(r, v)
	})
	if err != nil {
		return found, err
	}
	found.More = scout.More
	shapes := make(map[wal.RelationRef]shape)
	for _, c := range finder.Changes() {
		ref := c.Old.Relation
		if !c.Deleted() {
			ref = c.New.Relation
		}
		s, has := shapes[ref]
		if !has {
			if s, err = j.shapeOf(ctx, &e, ref, files.names[ref]); err != nil {
				return found, err
			}
			shapes[ref] = s
			found.Unseen = found.Unseen || s.columns == nil
		}
		found.List = append(found.List, s.row(finder, c, files.names[ref]))
	}
	return found, nil
}

// tableFiles are the files of a table that a transaction changed.
type tableFiles struct {
	rows.Wanted
	names map[wal.RelationRef]journal.Name
}

func (j *Journal) filesOf(ctx context.Context, e *Entry, want func(journal.Name) bool) (tableFiles, error) {
	f := tableFiles{names: make(map[wal.RelationRef]journal.Name), Wanted: rows.Wanted{XIDs: map[pg.XID]bool{pg.XID(e.XID): true},
		Tables: make(map[wal.RelationRef]bool), Toast: make(map[wal.RelationRef]bool)}}
	for _, x := range e.Subxacts {
		f.XIDs[x] = true
	}
	s, err := j.segmentAt(ctx, e.End)
	if err != nil || s == nil {
		return f, err
	}
	names := j.lookup(s, e.Time)
	for _, c := range e.Changes {
		n, known := names(c.Relation)
		if !known || !want(n) {
			continue
		}
		switch n.Part {
		case journal.Main:
			f.Tables[c.Relation] = true
		case journal.Toast:
			f.Toast[c.Relation] = true
		}
		f.names[c.Relation] = n
	}
	return f, nil
}

// segmentAt reads the journal of the segment in which the record at an LSN ends.
func (j *Journal) segmentAt(ctx context.Context, at pg.LSN) (found *journal.Segment, err error) {
	n := j.archive.Cluster.SegmentSize.Number(at)
	err = j.heads(ctx, n, n+1, func(h *journal.Head) (more bool, err error) {
		if h.To <= at {
			return true, nil
		}
		found, err = j.segment(ctx, h.Segment.Number)
		return false, err
	})
	return found, err
}

// notHere says that WAL that rows are read from is missing.
func (j *Journal) notHere(at pg.LSN) error {
	return problem.New(problem.OutOfReach, "See what there is with: velvet reach "+j.archive.Cluster.Name, "the rows cannot be read",
		"the WAL at %s is not here", at)
}

// lookFrom is where following pages begins: some segments before a place, or where the captured WAL does.
func (j *Journal) lookFrom(first pg.LSN) (pg.LSN, error) {
	stretch, ok := j.stretchOf(first)
	if !ok {
		return 0, j.notHere(first)
	}
	z := j.archive.Cluster.SegmentSize
	n := z.Number(first)
	return z.Start(max(n-min(n, lookBack), stretch.First)), nil
}

// follow shows the records from one place on up to another, from the segment n on, until see has had enough.
func (j *Journal) follow(ctx context.Context, n uint64, from, to pg.LSN, see func(*wal.Record, *pg.Version) (bool, error)) error {
	stretch, ok := j.stretchOf(from)
	if !ok {
		return j.notHere(from)
	}
	before, err := j.before(ctx, n)
	if err != nil {
		return err
	}
	src, records := j.records(ctx, n, stretch.Last, before)
	defer func() { _ = src.Close() }()
	for {
		r, err := records.Next()
		if errors.Is(err, io.EOF) || errors.Is(err, wal.ErrUnwritten) {
			return nil
		}
		if err != nil {
			return err
		}
		if r.Start >= to {
			return nil
		}
		if r.Start < from {
			continue
		}
		if enough, err := see(r, records.Version()); err != nil || enough {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}

// shape is what the columns of a table were for a transaction; why says that this is not known.
type shape struct {
	columns []value.Column
	why     string
}

// shapeOf finds columns that were seen after all of the changes of the table's columns that came before the transaction, and
// before all that came after it: a transaction that changes rows and one that changes columns never run at once.
func (j *Journal) shapeOf(ctx context.Context, e *Entry, ref wal.RelationRef, n journal.Name) (shape, error) {
	if n.System() {
		return shape{why: "the columns of the server's own catalogs are not kept"}, nil
	}
	known, err := j.book.ColumnsOf(ctx, ref.Database, n.OID)
	if err != nil {
		return shape{}, err
	}
	if len(known) == 0 {
		return shape{why: "nobody saw what the columns of the table were"}, nil
	}
	changed, err := j.reshaped(ctx, n)
	if err != nil {
		return shape{}, err
	}
	for i := len(known) - 1; i >= 0; i-- {
		fits := true
		for _, by := range changed {
			if by.End == e.End && !e.made(n) {
				return shape{why: "the transaction changed the table's columns itself"}, nil
			}
			fits = fits && known[i].Sees(by.XID) == (by.End <= e.End)
		}
		if fits {
			return shape{columns: known[i].Columns}, nil
		}
	}
	return shape{why: "nobody saw what the columns of the table were then: they were changed before and after"}, nil
}

// made tells whether the transaction made a table and did not change what its first rows are.
func (e *Entry) made(n journal.Name) bool {
	return e.addsColumns && slices.ContainsFunc(e.Tables, func(c journal.TableChange) bool {
		return c.OID == n.OID && c.Database == n.Database && c.Counts[journal.Create] > 0
	})
}

// reshaped lists the transactions that may have changed the columns of a table.
func (j *Journal) reshaped(ctx context.Context, n journal.Name) (list []journal.Transaction, err error) {
	none := func(all *journal.Head) bool { return !altersTable(all, n) }
	err = j.all(ctx, none, func(h *journal.Head) (bool, error) {
		if !altersTable(h, n) {
			return true, nil
		}
		s, err := j.segment(ctx, h.Segment.Number)
		if err != nil {
			return false, err
		}
		for t, err := range s.Transactions() {
			if err != nil {
				return false, err
			}
			names := j.lookup(s, t.Time)
			if !t.Committed || !t.ChangesColumns(names) {
				continue
			}
			for _, oid := range t.Altered {
				if other, known := names(journal.ByOID(t.Database, oid)); known && other.OID == n.OID && other.Database == n.Database {
					list = append(list, t)
				}
			}
		}
		return true, nil
	})
	return list, err
}

// altersTable tells whether more than rows of a table was changed in a segment.
func altersTable(h *journal.Head, n journal.Name) bool {
	return slices.ContainsFunc(h.Tables, func(s journal.TableSum) bool {
		return s.Known && s.OID == n.OID && s.Database == n.Database &&
			slices.ContainsFunc(s.Sum[journal.Truncate:], func(n int64) bool { return n > 0 })
	})
}

// row gives a row its values.
func (s *shape) row(f *rows.Finder, c rows.Change, n journal.Name) Row {
	row := Row{Change: c, Table: n, Why: s.why}
	if s.columns == nil {
		return row
	}
	for _, form := range []struct {
		tuple *wal.Tuple
		to    *[]value.Cell
		was   bool
	}{{c.Before, &row.Before, true}, {c.After, &row.After, false}} {
		if form.tuple == nil {
			continue
		}
		cells, err := f.Cells(s.columns, form.tuple)
		if err != nil {
			row.Why = fmt.Sprint(err)
			continue
		}
		if form.was && c.OnlyKey {
			cells = onlyKey(cells)
		}
		*form.to = cells
	}
	if row.Why == "" && (c.Before == nil && !c.Inserted() || c.After == nil && !c.Deleted()) {
		row.Why = "the WAL that was read holds only a part of the row: its page was last written whole before that"
	}
	return row
}

// onlyKey leaves out what is NULL where only the key was kept: it may have been anything.
func onlyKey(cells []value.Cell) (list []value.Cell) {
	for _, c := range cells {
		if !c.Null {
			list = append(list, c)
		}
	}
	return list
}
