package journal

import (
	"iter"

	"velvetrewind/core/blocks"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// IndexMagic begins every index; its last byte is the version of the format.
const IndexMagic = "VELVETI\x03"

// Segment is the journal of one WAL segment: its head, the transactions that end in
// it, the pages changed, and what the next segment needs to know.
type Segment struct {
	Head
	// Names are what the segment's relation files were called; files whose name nobody
	// knew are not in it.
	Names  map[wal.RelationRef]Name
	Blocks []blocks.Changed
	State  State
	ledger []byte // transactions, as ledger.go writes them
}

// Recorder makes the journal of a segment while its records are read.
type Recorder struct {
	builder *Builder
	blocks  blocks.Set
	head    Head
	ledger  ledgerWriter
	z       pg.SegmentSize
}

// NewRecorder goes on at the state that the segment before left.
func NewRecorder(seg pg.Segment, z pg.SegmentSize, before State) *Recorder {
	from := before.Next
	if from == 0 {
		from = z.Start(seg.Number)
	}
	return &Recorder{builder: NewBuilder(before), head: Head{Segment: seg, From: from, To: from}, z: z}
}

// Next is where the next record begins, and the one before it, as a Reader's options want them.
func (r *Recorder) Next() (next, prev pg.LSN) { return r.builder.state.Next, r.builder.state.Prev }

// From is where the records begin that the journal tells of.
func (r *Recorder) From() pg.LSN { return r.head.From }

// See takes the next record; what it returns is as Builder.See says.
func (r *Recorder) See(rec *wal.Record, v *pg.Version) (*Transaction, error) {
	t, err := r.builder.See(rec, v)
	if err != nil {
		return nil, err
	}
	r.head.Records++
	r.head.Bytes += int64(rec.Length)
	r.head.To = rec.End
	if t != nil {
		r.ledger.add(t)
	}
	if rec.Manager == wal.ManagerXLOG {
		body, err := wal.Decode(rec, v)
		if err != nil {
			return nil, err
		}
		switch m := body.(type) {
		case wal.RestorePoint:
			r.head.RestorePoints = append(r.head.RestorePoints, RestorePoint{m.Name, rec.Start, m.Time})
		case wal.ParameterChange:
			if m.WALLevel == wal.LevelMinimal {
				return nil, &wal.Damage{LSN: rec.Start, Reason: "wal_level was lowered to minimal: nothing from here on can be replayed"}
			}
		}
	}
	return t, r.blocks.See(rec, v)
}

// Segment gives the journal of what was seen so far, of bytes that end at end. The
// recorder can go on.
func (r *Recorder) Segment(end pg.LSN, names Lookup) (*Segment, error) {
	s := &Segment{Head: r.head, Names: make(map[wal.RelationRef]Name), State: r.builder.State(), ledger: r.ledger.w.b,
		Blocks: r.blocks.List()}
	s.End = end
	var tables []TableChange
	plain := plainSums{of: make(map[wal.RelationRef]plainSum), segment: s, names: names}
	err := s.Each(func(t *Transaction) error {
		if plain.add(t) {
			return nil
		}
		t.files(func(ref wal.RelationRef) { s.name(ref, names) })
		tables = t.tables(tables[:0], s.Lookup)
		s.Head.add(t, tables)
		s.Objects = append(s.Objects, t.DroppedObjects(s.Lookup)...)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s, nil
}

// plainSums adds up transactions that changed rows and nothing else, which most are, with one look for each file.
type plainSums struct {
	of      map[wal.RelationRef]plainSum
	segment *Segment
	names   Lookup
	changed []plainChange // by the transaction
}

// plainSum says which of a head's tables a file counts for, -1 for none, and whether that is a table of users.
type plainSum struct {
	table int
	users bool
}

type plainChange struct {
	plainSum
	counts Counts
}

// add adds a transaction up, and tells whether it was one of those.
func (p *plainSums) add(t *Transaction) bool {
	if !t.Committed || t.flags()&^(flagCommitted|flagTwoPhase|flagPartial|flagSubxacts) != 0 {
		return false
	}
	h := &p.segment.Head
	h.addEnd(t)
	p.changed = p.changed[:0]
	var all Counts
	for _, c := range t.Changes {
		s, known := p.of[c.Relation]
		if !known {
			s = p.begin(c.Relation)
		}
		if s.table < 0 {
			continue
		}
		if s.users {
			all[Insert], all[Update], all[Delete] = all[Insert]+c.Inserted, all[Update]+c.Updated, all[Delete]+c.Deleted
		}
		counts := p.changeOf(s)
		counts[Insert], counts[Update], counts[Delete] = counts[Insert]+c.Inserted, counts[Update]+c.Updated, counts[Delete]+c.Deleted
	}
	for i := range p.changed {
		h.Tables[p.changed[i].table].count(&p.changed[i].counts)
	}
	h.addMost(&all)
	return true
}

// changeOf finds what the transaction did to a table so far.
func (p *plainSums) changeOf(s plainSum) *Counts {
	for i := range p.changed {
		if p.changed[i].table == s.table {
			return &p.changed[i].counts
		}
	}
	p.changed = append(p.changed, plainChange{plainSum: s})
	return &p.changed[len(p.changed)-1].counts
}

// begin finds the table of a file that is met first.
func (p *plainSums) begin(ref wal.RelationRef) plainSum {
	p.segment.name(ref, p.names)
	n, known := p.segment.Lookup(ref)
	s := plainSum{table: -1, users: !n.System()}
	if !known || n.Part == Main {
		change := TableChange{Name: n, Known: known, File: ref}
		s.table = p.segment.Head.tableOf(&change)
	}
	p.of[ref] = s
	return s
}

// name keeps what a file is called, if anybody knows it.
func (s *Segment) name(ref wal.RelationRef, names Lookup) {
	if _, have := s.Names[ref]; have {
		return
	}
	if n, ok := names(ref); ok {
		s.Names[ref] = n
	}
}

// Unknown lists the main files that transactions name and nobody knows.
func (s *Segment) Unknown() []wal.RelationRef {
	var list []wal.RelationRef
	for i := range s.Tables {
		if !s.Tables[i].Known {
			list = append(list, s.Tables[i].File)
		}
	}
	return list
}

// files visits every relation file that the transaction names.
func (t *Transaction) files(visit func(wal.RelationRef)) {
	for _, c := range t.Changes {
		visit(c.Relation)
	}
	for _, list := range [][]wal.RelationRef{t.Created, t.Dropped} {
		for _, ref := range list {
			visit(ref)
		}
	}
	for _, oid := range t.Altered {
		visit(ByOID(t.Database, oid))
		visit(Filed(t.Database, oid))
	}
	for _, o := range t.Objects {
		visit(wal.RelationRef{Space: o.Catalog, Database: o.Database, Filenode: o.OID})
	}
}

// Lookup finds a name as it was in this segment.
func (s *Segment) Lookup(ref wal.RelationRef) (Name, bool) {
	n, ok := s.Names[ref]
	return n, ok
}

// Transactions visits what ended in the segment, in the order of the log.
func (s *Segment) Transactions() iter.Seq2[Transaction, error] {
	return readLedger(s.ledger)
}

// Each visits them, too; what it shows is good until the next. It takes no memory for each of millions.
func (s *Segment) Each(visit func(*Transaction) error) error { return eachOf(s.ledger, visit) }

// Encode writes the index object's content.
func (s *Segment) Encode() []byte {
	w := newWriter()
	s.Head.write(w)
	w.count(len(s.Names))
	for ref, n := range sorted(s.Names) {
		w.relation(ref)
		n.write(w)
	}
	w.bytes(s.ledger)
	s.State.write(w)
	writeBlocks(w, s.Blocks)
	return w.seal(IndexMagic)
}

// DecodeIndex reads an index object's content. Whatever the bytes, it is an index or ErrFormat.
func DecodeIndex(b []byte) (*Segment, error) {
	p, err := unseal(b, IndexMagic)
	if err != nil {
		return nil, err
	}
	s := &Segment{Names: make(map[wal.RelationRef]Name)}
	s.Head.read(p)
	for range p.count() {
		ref := p.relation()
		var n Name
		n.read(p)
		s.Names[ref] = n
	}
	s.ledger = p.bytes()
	s.State.read(p)
	s.Blocks = readBlocks(p)
	if err := p.err(); err != nil {
		return nil, err
	}
	if err := s.Each(func(*Transaction) error { return nil }); err != nil {
		return nil, err
	}
	return s, nil
}

// DecodeHead reads only the head, of which prefix must hold all. ErrFormat where it does not.
func DecodeHead(prefix []byte) (Head, error) {
	p, err := unseal(prefix, IndexMagic)
	if err != nil {
		return Head{}, err
	}
	var h Head
	h.read(p)
	return h, p.err()
}
