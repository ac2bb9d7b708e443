// Package journal turns WAL records into transactions: who changed which relations,
// how many rows, and when it committed.
//
// Invariant: a transaction is handed over once, when its end is seen, with all that
// its committed sub-transactions did and nothing of those that were rolled back.
// Memory holds only what is still open.
package journal

import (
	"cmp"
	"slices"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Change is what a transaction did to one relation's rows.
type Change struct {
	Relation                   wal.RelationRef
	Inserted, Updated, Deleted int64
}

// Transaction is a transaction that has ended.
type Transaction struct {
	XID       pg.XID
	Subxacts  []pg.XID
	Committed bool
	TwoPhase  bool
	Database  uint32 // 0 where nothing in the log says
	First     pg.LSN // start of its first record
	End       pg.LSN // start of its commit or abort record
	Time      time.Time
	Changes   []Change          // by relation
	Created   []wal.RelationRef // files made: new, rewritten or truncated relations
	Dropped   []wal.RelationRef // files that went at its end
	Bytes     int64             // of WAL
}

// Builder follows the log. The zero Builder is ready.
type Builder struct {
	open map[pg.XID]*work
}

// work is what one transaction id has done so far.
type work struct {
	first   pg.LSN
	bytes   int64
	changes map[wal.RelationRef]*Change
	created []wal.RelationRef
}

// See takes the next record, and returns the transaction that it ends, if any. The
// rollback of a sub-transaction looks like that of a transaction: it ends its own
// work, and is returned as not committed.
func (b *Builder) See(r *wal.Record, version int) (*Transaction, error) {
	end, isEnd, err := wal.EndOf(r, version)
	if err != nil {
		return nil, err
	}
	if isEnd {
		return b.finish(r, end), nil
	}
	if oldest, ok := wal.OldestRunning(r); ok {
		b.forget(oldest)
	}
	if r.XID == 0 {
		return nil, nil
	}
	w := b.of(r)
	w.bytes += int64(r.Length)
	if rel, ok := wal.Created(r); ok {
		w.created = append(w.created, rel)
	}
	change, ok, err := wal.RowsOf(r)
	if ok {
		w.add(Change{change.Relation, change.Inserted, change.Updated, change.Deleted})
	}
	return nil, err
}

// Open lists the transactions and sub-transactions that have written and not ended.
func (b *Builder) Open() []pg.XID {
	list := make([]pg.XID, 0, len(b.open))
	for xid := range b.open {
		list = append(list, xid)
	}
	slices.Sort(list)
	return list
}

func (b *Builder) of(r *wal.Record) *work {
	if b.open == nil {
		b.open = make(map[pg.XID]*work)
	}
	w := b.open[r.XID]
	if w == nil {
		w = &work{first: r.Start, changes: make(map[wal.RelationRef]*Change)}
		b.open[r.XID] = w
	}
	return w
}

func (w *work) add(c Change) {
	have := w.changes[c.Relation]
	if have == nil {
		have = &Change{Relation: c.Relation}
		w.changes[c.Relation] = have
	}
	have.Inserted += c.Inserted
	have.Updated += c.Updated
	have.Deleted += c.Deleted
}

// finish gathers a transaction and its committed sub-transactions.
func (b *Builder) finish(r *wal.Record, end wal.End) *Transaction {
	t := &Transaction{
		XID: end.XID, Subxacts: end.Subxacts, Committed: end.Committed, TwoPhase: end.TwoPhase, Database: end.Database,
		First: r.Start, End: r.Start, Time: end.Time, Dropped: end.Dropped, Bytes: int64(r.Length),
	}
	all := work{changes: make(map[wal.RelationRef]*Change)}
	for _, xid := range append([]pg.XID{end.XID}, end.Subxacts...) {
		w := b.open[xid]
		if w == nil {
			continue
		}
		delete(b.open, xid)
		t.First = min(t.First, w.first)
		t.Bytes += w.bytes
		t.Created = append(t.Created, w.created...)
		for _, c := range w.changes {
			all.add(*c)
		}
	}
	for _, c := range all.changes {
		if *c == (Change{Relation: c.Relation}) {
			continue // taken back
		}
		t.Changes = append(t.Changes, *c)
		if t.Database == 0 {
			t.Database = c.Relation.Database
		}
	}
	slices.SortFunc(t.Changes, func(x, y Change) int {
		return cmp.Or(cmp.Compare(x.Relation.Database, y.Relation.Database), cmp.Compare(x.Relation.Filenode, y.Relation.Filenode), cmp.Compare(x.Relation.Space, y.Relation.Space))
	})
	return t
}

// forget drops what is older than every running transaction: the server died before
// it could log their ends.
func (b *Builder) forget(oldest pg.XID) {
	for xid := range b.open {
		if xid.Precedes(oldest) {
			delete(b.open, xid)
		}
	}
}
