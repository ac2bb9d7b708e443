// Package journal turns WAL records into transactions, who changed which tables, how
// many rows, and when it committed, and keeps them in indexes, one for each segment,
// that are searched instead of the WAL.
//
// Invariant: a transaction is handed over once, when its end is seen, with all that its committed sub-transactions
// did and nothing of those that were rolled back. What is open at a segment's end is carried over in its index, so
// that each index follows from the one before it and the segment alone. Memory holds what is still open and one
// segment. Where the records come from, and where indexes are kept, is the caller's business.
package journal

import (
	"maps"
	"slices"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Change is what a transaction did to the rows of one relation file.
type Change struct {
	Relation                   wal.RelationRef
	Inserted, Updated, Deleted int64
}

// Transaction is a transaction, or a sub-transaction rolled back by itself, that has ended.
type Transaction struct {
	XID       pg.FullXID // without its epoch where that is not known yet
	Subxacts  []pg.XID
	Committed bool
	TwoPhase  bool
	GID       string // name of a two-phase transaction that was prepared within the known WAL
	Partial   bool   // it may have begun before the known WAL: what is told of it may be less than it did
	Database  uint32 // 0 where nothing in the log says
	First     pg.LSN // start of its first record
	End       pg.LSN // start of its commit or abort record
	Time      time.Time
	Changes   []Change          // in the order of the first change of each
	Created   []wal.RelationRef // files made: new, rewritten, moved or truncated relations
	Filled    []wal.RelationRef // of these, those that whole pages were copied into
	Dropped   []wal.RelationRef // files that went at its end
	Named     []Named           // files made, with their names; not kept in an index
	Truncated []uint32          // oids of truncated tables, where the log names them
	// NewDatabases and DroppedDatabases are oids.
	NewDatabases, DroppedDatabases []uint32
	Bytes                          int64 // of WAL
	// Altered are oids of relations of Database that were locked exclusively and of which the catalogs say something else
	// now, DroppedColumns how many columns went, as far as the WAL shows.
	Altered        []uint32
	DroppedColumns int64
	// Objects are functions, schemas, indexes, sequences and rules of which the catalogs say something else now, and which
	// it did not make itself.
	Objects []wal.ObjectOID
	mixed   bool // several of its ids made files, so that Created is not in the order of the log
}

// Clone is the same transaction, to be kept.
func (t *Transaction) Clone() *Transaction {
	c := *t
	c.Subxacts, c.Changes, c.Created, c.Filled = slices.Clone(t.Subxacts), slices.Clone(t.Changes), slices.Clone(t.Created),
		slices.Clone(t.Filled)
	c.Dropped, c.Named, c.Truncated, c.Altered = slices.Clone(t.Dropped), slices.Clone(t.Named), slices.Clone(t.Truncated),
		slices.Clone(t.Altered)
	c.NewDatabases, c.DroppedDatabases, c.Objects = slices.Clone(t.NewDatabases), slices.Clone(t.DroppedDatabases),
		slices.Clone(t.Objects)
	return &c
}

// Open is what a transaction id has done so far: a transaction or sub-transaction
// whose end is not known.
type Open struct {
	XID      pg.XID
	First    pg.LSN
	Bytes    int64
	Prepared bool
	GID      string
	Changes  []Change
	Created  []wal.RelationRef
	Filled   []wal.RelationRef
	// Truncated, NewDatabases and DroppedDatabases are oids.
	Truncated, NewDatabases, DroppedDatabases []uint32
	Named                                     []Named
	Locked                                    []wal.RelationOID // exclusively; of users
	DroppedColumns                            int64

	last  int                      // index of the change that was counted last
	at    map[wal.RelationRef]int  // of Changes, once they are many
	files *fileSet                 // of Created and of Filled; made when they are asked for
	locks map[wal.RelationOID]bool // of Locked, once they are many
}

// few is how many items are looked through one by one, sooner than in a map.
const few = 16

// State is all that must be known to go on reading at Next.
type State struct {
	Next    pg.LSN     // where the next record begins; 0 at the beginning of the known WAL
	Prev    pg.LSN     // where the record before it begins
	NextXID pg.FullXID // above every id seen; its epoch is known once a checkpoint was seen
	Epoch   bool       // the epoch of NextXID is known
	// Sure is the id from which on transactions surely began within the known WAL;
	// 0 until the server's first stock of transactions was seen.
	Sure  pg.XID
	Whole bool // every transaction that is still to end is sure
	// Class is the file of pg_class by database, where it is not the first one.
	Class map[uint32]uint32
	Open  []Open
}

// Builder follows the log from a State. Make it with NewBuilder.
type Builder struct {
	state State // but for Open
	open  map[pg.XID]*Open
	near  [16]*Open // some of open, by their ids
	free  []*Open
	ended Transaction // what See returns
}

// NewBuilder goes on at a state; the zero State is the beginning of the known WAL.
func NewBuilder(s State) *Builder {
	b := &Builder{state: s, open: make(map[pg.XID]*Open, len(s.Open))}
	for _, o := range s.Open {
		own := o
		b.open[o.XID] = &own
	}
	b.state.Open = nil
	return b
}

// State gives what a Builder needs to go on after the records seen so far. It
// shares nothing with the builder.
func (b *Builder) State() State {
	s := b.state
	s.Open = make([]Open, 0, len(b.open))
	for _, o := range b.open {
		own := *o
		own.at, own.files, own.locks = nil, nil, nil
		own.Changes, own.Created, own.Filled, own.Named = slices.Clone(o.Changes), slices.Clone(o.Created), slices.Clone(o.Filled),
			slices.Clone(o.Named)
		own.Locked = slices.Clone(o.Locked)
		s.Open = append(s.Open, own)
	}
	slices.SortFunc(s.Open, func(x, y Open) int { return int(int32(x.XID - y.XID)) })
	return s
}

// See takes the next record, and returns the transaction that it ends, if any, good
// until See is called again. The rollback of a sub-transaction looks like that of a
// transaction: it ends its own work, and is returned as not committed.
func (b *Builder) See(r *wal.Record, v *pg.Version) (*Transaction, error) {
	b.state.Prev, b.state.Next = r.Start, r.End
	var o *Open
	if r.XID != 0 {
		o = b.of(r.XID, r.Start)
		o.Bytes += int64(r.Length)
	}
	switch r.Manager {
	case wal.ManagerHeap, wal.ManagerHeap2:
		return nil, b.seeHeap(r, o, v)
	case wal.ManagerTransaction:
		end, ok, err := wal.EndOf(r, v)
		if ok {
			return b.finish(r, end), nil
		}
		if err != nil {
			return nil, err
		}
	case wal.ManagerStorage, wal.ManagerDatabase, wal.ManagerStandby, wal.ManagerXLOG, wal.ManagerRelationMap:
	default:
		return nil, nil
	}
	body, err := wal.Decode(r, v)
	if _, images := body.(wal.PageImages); images && o != nil {
		o.seeImages(r)
	}
	if err == nil && body != nil {
		b.seeOther(body, o)
	}
	return nil, err
}

// seeImages notes which of the files that the transaction made are filled with pages.
func (o *Open) seeImages(r *wal.Record) {
	if len(o.Created) == 0 {
		return
	}
	if o.files == nil {
		o.files = &fileSet{}
	}
	for i := range r.Blocks {
		ref := r.Blocks[i].Relation()
		if r.Blocks[i].Fork == 0 && o.files.created.has(o.Created, ref) && !o.files.filled.has(o.Filled, ref) {
			o.Filled = append(o.Filled, ref)
		}
	}
}

// fileSet finds files in the lists of a transaction.
type fileSet struct{ created, filled refs }

// refs finds relation files in a list that only grows.
type refs struct {
	known map[wal.RelationRef]struct{}
	seen  int // so many of the list are in known
}

func (s *refs) has(list []wal.RelationRef, ref wal.RelationRef) bool {
	if len(list) <= few {
		return slices.Contains(list, ref)
	}
	if s.known == nil {
		s.known = make(map[wal.RelationRef]struct{}, len(list))
	}
	for ; s.seen < len(list); s.seen++ {
		s.known[list[s.seen]] = struct{}{}
	}
	_, has := s.known[ref]
	return has
}

func (b *Builder) seeHeap(r *wal.Record, o *Open, v *pg.Version) error {
	if o == nil {
		return nil // pruning, freezing, visibility
	}
	c, ok, err := wal.RowsOf(r)
	if ok {
		o.add(Change{c.Relation, c.Inserted, c.Updated, c.Deleted})
		if c.Inserted == 1 && (b.isClass(c.Relation) || c.Relation.Filenode == wal.CatalogFunctions ||
			c.Relation.Filenode == wal.CatalogSchemas) {
			return o.seeClass(r, c.Relation, v)
		}
		if c.Updated == 1 && c.Relation.Filenode == pgAttribute {
			return o.seeColumn(r, v)
		}
		return nil
	}
	if err != nil || r.Manager != wal.ManagerHeap || len(r.Blocks) > 0 {
		return err
	}
	body, err := wal.Decode(r, v)
	if t, ok := body.(wal.HeapTruncate); ok {
		o.Truncated = append(o.Truncated, t.Relations...)
	}
	return err
}

// isClass tells whether a file holds pg_class.
func (b *Builder) isClass(ref wal.RelationRef) bool {
	if file, moved := b.state.Class[ref.Database]; moved {
		return ref.Filenode == file
	}
	return ref.Filenode == pgClass
}

// seeClass learns the name of a relation from its new row in pg_class, or that of a function or schema from its catalog.
func (o *Open) seeClass(r *wal.Record, ref wal.RelationRef, v *pg.Version) error {
	row, ok, err := wal.InsertedRow(r, v)
	decode := decodeClass
	if ref.Filenode == wal.CatalogFunctions || ref.Filenode == wal.CatalogSchemas {
		decode = decodeObject
	}
	if n, is := decode(ref, row, v); ok && is {
		o.Named = append(o.Named, n)
	}
	return err
}

// seeOther takes what is neither a change of rows nor the end of a transaction. o is
// the work of the record's transaction, nil where none wrote it.
func (b *Builder) seeOther(body wal.Body, o *Open) {
	switch v := body.(type) {
	case wal.FileCreate:
		if o != nil && v.Fork == 0 {
			o.Created = append(o.Created, v.Relation)
		}
	case wal.DatabaseCreate:
		if o != nil {
			o.NewDatabases = append(o.NewDatabases, v.Database)
		}
	case wal.DatabaseDrop:
		if o != nil {
			o.DroppedDatabases = append(o.DroppedDatabases, v.Database)
		}
	case wal.Prepare:
		for _, xid := range append([]pg.XID{v.XID}, v.Subxacts...) {
			if w := b.open[xid]; w != nil {
				w.Prepared, w.GID = true, v.GID
			}
		}
	case wal.Locks:
		for _, l := range v {
			if w := b.open[l.XID]; w != nil || o != nil {
				b.of(l.XID, b.state.Prev).lock(wal.RelationOID{Database: l.Database, OID: l.Relation})
			}
		}
	case wal.RunningTransactions:
		b.takeStock(v.NextXID, v.OldestRunning)
	case wal.Checkpoint:
		b.seeCheckpoint(v)
	case wal.MapUpdate:
		if file, ok := v.Files[pgClass]; ok && (file != pgClass || b.state.Class[v.Database] != 0) {
			b.state.Class = maps.Clone(b.state.Class)
			if b.state.Class == nil {
				b.state.Class = make(map[uint32]uint32)
			}
			b.state.Class[v.Database] = file
		}
	case wal.EndOfRecovery:
		b.forget(func(o *Open) bool { return !o.Prepared })
	}
}

// seeCheckpoint learns the epoch. After a shutdown or a crash nothing is running but
// what was prepared.
func (b *Builder) seeCheckpoint(c wal.Checkpoint) {
	if !b.state.Epoch || c.NextXID > b.state.NextXID {
		b.state.NextXID, b.state.Epoch = c.NextXID, true
	}
	if c.Shutdown {
		b.forget(func(o *Open) bool { return !o.Prepared })
		b.widen(pg.XID(c.NextXID) - 1)
		if b.state.Sure == 0 { // Whole is not known: what was prepared before the known WAL is still to end
			b.state.Sure = pg.XID(c.NextXID)
		}
	}
}

// takeStock drops what is older than every running transaction: the server died
// before it could log their ends.
func (b *Builder) takeStock(next, oldest pg.XID) {
	b.widen(next - 1)
	b.forget(func(o *Open) bool { return !o.Prepared && o.XID.Precedes(oldest) })
	switch {
	case b.state.Whole:
	case b.state.Sure == 0:
		b.state.Sure = next
	case !oldest.Precedes(b.state.Sure):
		b.state.Whole = true
	}
}

func (b *Builder) forget(gone func(*Open) bool) {
	for xid, o := range b.open {
		if gone(o) {
			delete(b.open, xid)
		}
	}
	clear(b.near[:])
}

// widen gives an id its epoch and notes that it was seen.
func (b *Builder) widen(x pg.XID) pg.FullXID {
	if b.state.NextXID == 0 {
		b.state.NextXID = pg.FullXID(x) + 1
		return pg.FullXID(x)
	}
	full := x.Near(b.state.NextXID)
	b.state.NextXID = max(b.state.NextXID, full+1)
	return full
}

func (b *Builder) of(xid pg.XID, at pg.LSN) *Open {
	near := &b.near[xid%pg.XID(len(b.near))]
	if *near != nil && (*near).XID == xid {
		return *near
	}
	o := b.open[xid]
	if o == nil {
		if n := len(b.free); n > 0 {
			o, b.free = b.free[n-1], b.free[:n-1]
			*o = Open{Changes: o.Changes[:0]}
		} else {
			o = new(Open)
		}
		o.XID, o.First = xid, at
		b.open[xid] = o
	}
	*near = o
	return o
}

func (o *Open) add(c Change) {
	if o.last < len(o.Changes) && o.Changes[o.last].Relation == c.Relation {
		o.Changes[o.last].plus(c)
		return
	}
	if i := o.find(c.Relation); i >= 0 {
		o.Changes[i].plus(c)
		o.last = i
		return
	}
	o.last = len(o.Changes)
	o.Changes = append(o.Changes, c)
	if o.at != nil {
		o.at[c.Relation] = o.last
	}
}

// find is the index of a relation's change, or -1.
func (o *Open) find(ref wal.RelationRef) int {
	if len(o.Changes) <= few {
		for i := range o.Changes {
			if o.Changes[i].Relation.Filenode == ref.Filenode && o.Changes[i].Relation == ref {
				return i
			}
		}
		return -1
	}
	if o.at == nil {
		o.at = make(map[wal.RelationRef]int, len(o.Changes))
		for i := range o.Changes {
			o.at[o.Changes[i].Relation] = i
		}
	}
	if i, has := o.at[ref]; has {
		return i
	}
	return -1
}

func (c *Change) plus(d Change) {
	c.Inserted += d.Inserted
	c.Updated += d.Updated
	c.Deleted += d.Deleted
}

// finish gathers a transaction and its committed sub-transactions.
func (b *Builder) finish(r *wal.Record, end wal.End) *Transaction {
	t := &b.ended
	changes := t.Changes[:0]
	*t = Transaction{} // not with its fields at once, which would be made elsewhere and copied
	t.XID, t.Subxacts, t.Committed, t.TwoPhase, t.GID = b.widen(end.XID), end.Subxacts, end.Committed, end.TwoPhase, end.GID
	t.Database, t.First, t.End, t.Time, t.Dropped = end.Database, r.Start, r.Start, end.Time, end.Dropped
	t.Partial = !b.state.Whole && (b.state.Sure == 0 || end.XID.Precedes(b.state.Sure))
	if r.XID == 0 {
		t.Bytes = int64(r.Length) // the end of a prepared transaction is nobody's own record
	}
	all := Open{Changes: changes}
	b.gather(t, &all, end.XID)
	for _, xid := range end.Subxacts {
		b.widen(xid)
		b.gather(t, &all, xid)
	}
	t.Changes = all.Changes
	t.Altered = altered(all.Locked, end)
	t.DroppedColumns = all.DroppedColumns
	t.Objects = objects(end.Objects, t.Named)
	t.Changes = slices.DeleteFunc(t.Changes, func(c Change) bool { return c == (Change{Relation: c.Relation}) }) // taken back
	if t.Database == 0 && len(t.Changes) > 0 {
		t.Database = t.Changes[0].Relation.Database
	}
	return t
}

// gather moves the work of one id to its transaction, whose changes are in all.
func (b *Builder) gather(t *Transaction, all *Open, xid pg.XID) {
	o := b.open[xid]
	if o == nil {
		return
	}
	delete(b.open, xid)
	b.near[xid%pg.XID(len(b.near))] = nil
	t.First = min(t.First, o.First)
	t.Bytes += o.Bytes
	if o.GID != "" {
		t.GID = o.GID
	}
	t.mixed = t.mixed || len(t.Created) > 0 && len(o.Created) > 0
	t.Created = append(t.Created, o.Created...)
	t.Filled = append(t.Filled, o.Filled...)
	t.Named = append(t.Named, o.Named...)
	t.Truncated = append(t.Truncated, o.Truncated...)
	t.NewDatabases = append(t.NewDatabases, o.NewDatabases...)
	t.DroppedDatabases = append(t.DroppedDatabases, o.DroppedDatabases...)
	if len(all.Changes) == 0 { // each is of another relation
		all.Changes = append(all.Changes, o.Changes...)
	} else {
		for _, c := range o.Changes {
			all.add(c)
		}
	}
	all.Locked = append(all.Locked, o.Locked...)
	all.DroppedColumns += o.DroppedColumns
	if len(b.free) < 64 && cap(o.Changes) <= 4*few {
		b.free = append(b.free, o)
	}
}
