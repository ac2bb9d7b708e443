package journal

import (
	"cmp"
	"encoding/binary"
	"iter"
	"maps"
	"slices"

	"velvetrewind/core/blocks"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Flags of a transaction in the ledger.
const (
	flagCommitted = 1 << iota
	flagTwoPhase
	flagPartial
	flagSubxacts
	flagFiles // created or dropped
	flagRare  // GID, truncated oids, databases
	flagAltered
	flagObjects
)

func (t *Transaction) flags() (f uint64) {
	if t.Committed {
		f |= flagCommitted
	}
	if t.TwoPhase {
		f |= flagTwoPhase
	}
	if t.Partial {
		f |= flagPartial
	}
	if len(t.Subxacts) > 0 {
		f |= flagSubxacts
	}
	if len(t.Created)+len(t.Dropped) > 0 {
		f |= flagFiles
	}
	if t.GID != "" || len(t.Truncated)+len(t.NewDatabases)+len(t.DroppedDatabases) > 0 {
		f |= flagRare
	}
	if len(t.Altered) > 0 || t.DroppedColumns > 0 {
		f |= flagAltered
	}
	if len(t.Objects) > 0 {
		f |= flagObjects
	}
	return f
}

// ledgerWriter appends transactions, each as the difference to the one before.
type ledgerWriter struct {
	w writer
	p previous
}

// previous is what the differences of a ledger are taken against.
type previous struct {
	xid  pg.FullXID
	end  pg.LSN
	time int64 // microseconds since 2000
	file wal.RelationRef
}

func (l *ledgerWriter) add(t *Transaction) {
	flags := t.flags()
	at := pg.ToTimestamp(t.Time)
	l.w.reserve((8 + 6*len(t.Changes)) * binary.MaxVarintLen64)
	l.w.uint(flags)
	l.w.int(int64(t.XID - l.p.xid))
	l.w.uint(uint64(t.End - l.p.end))
	l.w.uint(uint64(t.End - t.First))
	l.w.int(at - l.p.time)
	l.w.uint(uint64(t.Bytes))
	l.w.uint(uint64(t.Database))
	l.p.xid, l.p.end, l.p.time = t.XID, t.End, at
	l.w.count(len(t.Changes))
	for _, c := range t.Changes {
		l.file(c.Relation)
		l.w.int(c.Inserted)
		l.w.int(c.Updated)
		l.w.int(c.Deleted)
	}
	if flags&flagSubxacts != 0 {
		l.w.xids(t.Subxacts)
	}
	if flags&flagFiles != 0 {
		l.files(t.Created)
		l.files(t.Dropped)
		l.files(t.Filled)
	}
	if flags&flagRare != 0 {
		l.w.bytes([]byte(t.GID))
		l.w.oids(t.Truncated)
		l.w.oids(t.NewDatabases)
		l.w.oids(t.DroppedDatabases)
	}
	if flags&flagAltered != 0 {
		l.w.oids(t.Altered)
		l.w.uint(uint64(t.DroppedColumns))
	}
	if flags&flagObjects != 0 {
		l.w.count(len(t.Objects))
		for _, o := range t.Objects {
			l.w.uint(uint64(o.Catalog))
			l.w.uint(uint64(o.Database))
			l.w.uint(uint64(o.OID))
		}
	}
}

func (l *ledgerWriter) files(list []wal.RelationRef) {
	l.w.count(len(list))
	for _, ref := range list {
		l.file(ref)
	}
}

// file writes the difference to the file before: within a database, mostly one number.
func (l *ledgerWriter) file(ref wal.RelationRef) {
	same := ref.Space == l.p.file.Space && ref.Database == l.p.file.Database
	d := int64(ref.Filenode) - int64(l.p.file.Filenode)
	zigzag := uint64(d<<1) ^ uint64(d>>63)
	if same {
		l.w.uint(zigzag << 1)
	} else {
		l.w.uint(zigzag<<1 | 1)
		l.w.uint(uint64(ref.Space))
		l.w.uint(uint64(ref.Database))
	}
	l.p.file = ref
}

// readLedger visits the transactions of a ledger; an error is the last that it yields.
func readLedger(b []byte) iter.Seq2[Transaction, error] {
	return func(yield func(Transaction, error) bool) {
		r := ledgerReader{p: parser{b: b}}
		for len(r.p.b) > 0 {
			var t Transaction
			if err := r.next(&t); err != nil || !yield(t, nil) {
				if err != nil {
					yield(Transaction{}, err)
				}
				return
			}
		}
	}
}

// eachOf visits the transactions of a ledger in one place, so that each is good until the next.
func eachOf(b []byte, visit func(*Transaction) error) error {
	r := ledgerReader{p: parser{b: b}, scratch: make([]Change, 0, few)}
	var t Transaction
	for len(r.p.b) > 0 {
		if err := r.next(&t); err != nil {
			return err
		}
		if err := visit(&t); err != nil {
			return err
		}
	}
	return nil
}

type ledgerReader struct {
	p parser
	b previous
	// scratch, if not nil, holds the changes of the transaction read last, which is
	// then good until the next is read.
	scratch []Change
}

func (r *ledgerReader) next(t *Transaction) error {
	flags := r.p.uint()
	r.b.xid += pg.FullXID(r.p.int())
	r.b.end += pg.LSN(r.p.uint())
	*t = Transaction{} // not with its fields at once, which would be made elsewhere and copied
	t.XID, t.End = r.b.xid, r.b.end
	t.Committed, t.TwoPhase, t.Partial = flags&flagCommitted != 0, flags&flagTwoPhase != 0, flags&flagPartial != 0
	t.First = t.End - pg.LSN(r.p.uint())
	r.b.time += r.p.int()
	t.Time = pg.Timestamp(r.b.time)
	t.Bytes = int64(r.p.uint())
	t.Database = r.p.u32()
	if n := r.p.count(); n > 0 {
		t.Changes = r.scratch[:0]
		if r.scratch == nil {
			t.Changes = make([]Change, 0, n)
		}
		for range n {
			t.Changes = append(t.Changes, Change{r.file(), r.p.int(), r.p.int(), r.p.int()})
		}
		if r.scratch != nil {
			r.scratch = t.Changes
		}
	}
	if flags&flagSubxacts != 0 {
		t.Subxacts = r.p.xids()
	}
	if flags&flagFiles != 0 {
		t.Created, t.Dropped, t.Filled = r.files(), r.files(), r.files()
	}
	if flags&flagRare != 0 {
		t.GID = string(r.p.bytes())
		t.Truncated, t.NewDatabases, t.DroppedDatabases = r.p.oids(), r.p.oids(), r.p.oids()
	}
	if flags&flagAltered != 0 {
		t.Altered, t.DroppedColumns = r.p.oids(), int64(r.p.uint())
	}
	if flags&flagObjects != 0 {
		for range r.p.count() {
			t.Objects = append(t.Objects, wal.ObjectOID{Catalog: r.p.u32(), Database: r.p.u32(), OID: r.p.u32()})
		}
	}
	return r.p.err()
}

func (r *ledgerReader) files() []wal.RelationRef {
	n := r.p.count()
	if n == 0 {
		return nil
	}
	list := make([]wal.RelationRef, n)
	for i := range list {
		list[i] = r.file()
	}
	return list
}

func (r *ledgerReader) file() wal.RelationRef {
	v := r.p.uint()
	zigzag := v >> 1
	r.b.file.Filenode = uint32(int64(r.b.file.Filenode) + (int64(zigzag>>1) ^ -int64(zigzag&1)))
	if v&1 != 0 {
		r.b.file.Space, r.b.file.Database = r.p.u32(), r.p.u32()
	}
	return r.b.file
}

func (s *State) write(w *writer) {
	w.lsn(s.Next)
	w.lsn(s.Prev)
	w.uint(uint64(s.NextXID))
	w.bool(s.Epoch)
	w.uint(uint64(s.Sure))
	w.bool(s.Whole)
	w.count(len(s.Class))
	for _, db := range slices.Sorted(maps.Keys(s.Class)) {
		w.uint(uint64(db))
		w.uint(uint64(s.Class[db]))
	}
	w.count(len(s.Open))
	for i := range s.Open {
		s.Open[i].write(w)
	}
}

func (s *State) read(p *parser) {
	*s = State{Next: p.lsn(), Prev: p.lsn(), NextXID: pg.FullXID(p.uint()), Epoch: p.bool(), Sure: pg.XID(p.u32()), Whole: p.bool()}
	for range p.count() {
		if s.Class == nil {
			s.Class = make(map[uint32]uint32)
		}
		db := p.u32()
		s.Class[db] = p.u32()
	}
	for range p.count() {
		var o Open
		o.read(p)
		s.Open = append(s.Open, o)
	}
}

func (o *Open) write(w *writer) {
	w.uint(uint64(o.XID))
	w.lsn(o.First)
	w.uint(uint64(o.Bytes))
	w.bool(o.Prepared)
	w.text(o.GID)
	w.count(len(o.Changes))
	for _, c := range o.Changes {
		w.relation(c.Relation)
		w.int(c.Inserted)
		w.int(c.Updated)
		w.int(c.Deleted)
	}
	for _, list := range [][]wal.RelationRef{o.Created, o.Filled} {
		w.count(len(list))
		for _, ref := range list {
			w.relation(ref)
		}
	}
	w.oids(o.Truncated)
	w.oids(o.NewDatabases)
	w.oids(o.DroppedDatabases)
	w.count(len(o.Named))
	for _, n := range o.Named {
		w.relation(n.File)
		w.uint(uint64(n.OID))
		w.uint(uint64(n.Schema))
		w.text(n.Name)
		w.uint(uint64(n.Part))
		w.bool(n.Copy)
	}
	w.count(len(o.Locked))
	for _, l := range o.Locked {
		w.uint(uint64(l.Database))
		w.uint(uint64(l.OID))
	}
	w.uint(uint64(o.DroppedColumns))
}

func (o *Open) read(p *parser) {
	*o = Open{XID: pg.XID(p.u32()), First: p.lsn(), Bytes: int64(p.uint()), Prepared: p.bool(), GID: p.text()}
	for range p.count() {
		o.Changes = append(o.Changes, Change{p.relation(), p.int(), p.int(), p.int()})
	}
	for _, list := range []*[]wal.RelationRef{&o.Created, &o.Filled} {
		for range p.count() {
			*list = append(*list, p.relation())
		}
	}
	o.Truncated, o.NewDatabases, o.DroppedDatabases = p.oids(), p.oids(), p.oids()
	for range p.count() {
		o.Named = append(o.Named, Named{p.relation(), p.u32(), p.u32(), p.text(), Part(p.u32()), p.bool()})
	}
	if p.format < 2 {
		return
	}
	for range p.count() {
		o.Locked = append(o.Locked, wal.RelationOID{Database: p.u32(), OID: p.u32()})
	}
	o.DroppedColumns = int64(p.uint())
}

func writeBlocks(w *writer, list []blocks.Changed) {
	w.count(len(list))
	for _, c := range list {
		w.relation(c.Fork.Relation)
		w.uint(uint64(c.Fork.Number))
		w.uint(uint64(c.Cut + 1)) // 0 for not cut
		w.count(len(c.Blocks))
		last := uint32(0)
		for _, b := range c.Blocks {
			w.uint(uint64(b - last))
			last = b
		}
	}
}

func readBlocks(p *parser) []blocks.Changed {
	var list []blocks.Changed
	for range p.count() {
		c := blocks.Changed{Fork: blocks.Fork{Relation: p.relation(), Number: uint8(p.u32())}}
		c.Cut = p.u32() - 1
		last := uint32(0)
		for range p.count() {
			last += p.u32()
			c.Blocks = append(c.Blocks, last)
		}
		list = append(list, c)
	}
	return list
}

// sorted visits names in an order that does not change from run to run.
func sorted(names map[wal.RelationRef]Name) iter.Seq2[wal.RelationRef, Name] {
	keys := slices.SortedFunc(maps.Keys(names), func(x, y wal.RelationRef) int {
		return cmp.Or(cmp.Compare(x.Database, y.Database), cmp.Compare(x.Filenode, y.Filenode), cmp.Compare(x.Space, y.Space))
	})
	return func(yield func(wal.RelationRef, Name) bool) {
		for _, k := range keys {
			if !yield(k, names[k]) {
				return
			}
		}
	}
}
