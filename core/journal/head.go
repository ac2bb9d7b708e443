package journal

import (
	"slices"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Commit is a committed transaction at a place.
type Commit struct {
	XID  pg.FullXID `json:"xid"` // with its epoch
	LSN  pg.LSN     `json:"lsn"` // start of its commit record
	Time time.Time  `json:"time"`
}

// RestorePoint is a named restore point.
type RestorePoint struct {
	Name string
	LSN  pg.LSN // start of its record
	Time time.Time
}

// TableSum is what the committed transactions that end in a segment did to one table:
// in all, and at most in one of them.
type TableSum struct {
	Name
	Known bool
	File  wal.RelationRef
	Sum   Counts
	Most  Counts
}

// Head is what a segment's index tells in short: enough to know whether the index
// itself, or the segment, must be read.
type Head struct {
	Segment          pg.Segment
	From, To         pg.LSN // of the records that it tells of: those that end in the segment
	End              pg.LSN // where the segment's bytes end; within it, where it was cut
	Records, Bytes   int64
	Commits, Aborts  int64
	Earliest, Latest time.Time  // commit times; zero without commits
	MinXID, MaxXID   pg.FullXID // of what ended, sub-transactions too
	First, Last      Commit     // in the order of the log; zero without commits
	// Most is what one transaction did at most to users' tables, by kind, and MostRows
	// how many rows one changed. A dropped database is a drop, too.
	Most          Counts
	MostRows      int64
	RestorePoints []RestorePoint
	Tables        []TableSum
	Objects       []Name // that were dropped and are not tables

	at map[sumKey]int // of Tables, once they are many
}

// sumKey is what sums are told apart by.
type sumKey struct {
	known bool
	name  Name
	file  wal.RelationRef
}

// add counts an ended transaction.
func (h *Head) add(t *Transaction, tables []TableChange) {
	h.addEnd(t)
	if !t.Committed {
		return
	}
	all := Counts{Drop: int64(len(t.DroppedDatabases))}
	for i := range tables {
		h.Tables[h.tableOf(&tables[i])].count(&tables[i].Counts)
		if !tables[i].System() {
			for k, n := range tables[i].Counts {
				all[k] += n
			}
		}
	}
	h.addMost(&all)
}

// addEnd counts that a transaction ended.
func (h *Head) addEnd(t *Transaction) {
	h.noteXID(t.XID)
	for _, s := range t.Subxacts {
		h.noteXID(s.Near(t.XID))
	}
	if !t.Committed {
		h.Aborts++
		return
	}
	c := Commit{t.XID, t.End, t.Time}
	if h.Commits == 0 {
		h.First, h.Earliest, h.Latest = c, t.Time, t.Time
	}
	h.Commits++
	h.Last = c
	if t.Time.Before(h.Earliest) {
		h.Earliest = t.Time
	}
	if t.Time.After(h.Latest) {
		h.Latest = t.Time
	}
}

// addMost takes what one transaction did to users' tables into what one did at most.
func (h *Head) addMost(all *Counts) {
	for k, n := range all {
		h.Most[k] = max(h.Most[k], n)
	}
	h.MostRows = max(h.MostRows, all.Rows())
}

func (h *Head) noteXID(x pg.FullXID) {
	if h.MaxXID == 0 || x < h.MinXID {
		h.MinXID = x
	}
	h.MaxXID = max(h.MaxXID, x)
}

// tableOf is the index of a table's sum, which begins with this.
func (h *Head) tableOf(c *TableChange) int {
	key := sumKey{known: c.Known}
	if c.Known {
		key.name = c.Name
	} else {
		key.file = c.File
	}
	return h.sumFor(key, &TableSum{Name: c.Name, Known: c.Known, File: c.File})
}

// count adds what one transaction did.
func (s *TableSum) count(c *Counts) {
	for k, n := range c {
		s.Sum[k] += n
		s.Most[k] = max(s.Most[k], n)
	}
}

// sumFor is the index of the sum of a table, which begins as what like names.
func (h *Head) sumFor(key sumKey, like *TableSum) int {
	if i := h.indexOf(key); i >= 0 {
		return i
	}
	h.Tables = append(h.Tables, TableSum{Name: like.Name, Known: like.Known, File: like.File})
	i := len(h.Tables) - 1
	if h.at != nil {
		h.at[key] = i
	}
	return i
}

func (h *Head) indexOf(key sumKey) int {
	if len(h.Tables) <= few {
		return slices.IndexFunc(h.Tables, func(s TableSum) bool { return s.key() == key })
	}
	if h.at == nil {
		h.at = make(map[sumKey]int, len(h.Tables))
		for i := range h.Tables {
			h.at[h.Tables[i].key()] = i
		}
	}
	if i, has := h.at[key]; has {
		return i
	}
	return -1
}

func (s *TableSum) key() sumKey {
	if s.Known {
		return sumKey{known: true, name: s.Name}
	}
	return sumKey{file: s.File}
}

func (h *Head) write(w *writer) {
	w.uint(uint64(h.Segment.Timeline))
	w.uint(h.Segment.Number)
	w.lsn(h.From)
	w.lsn(h.To)
	w.lsn(h.End)
	for _, n := range []int64{h.Records, h.Bytes, h.Commits, h.Aborts} {
		w.uint(uint64(n))
	}
	w.uint(uint64(h.MinXID))
	w.uint(uint64(h.MaxXID))
	if h.Commits > 0 {
		w.time(h.Earliest)
		w.time(h.Latest)
		for _, c := range []Commit{h.First, h.Last} {
			w.uint(uint64(c.XID))
			w.lsn(c.LSN)
			w.time(c.Time)
		}
	}
	w.count(Operations)
	for _, n := range h.Most {
		w.int(n)
	}
	w.int(h.MostRows)
	w.count(len(h.RestorePoints))
	for _, m := range h.RestorePoints {
		w.text(m.Name)
		w.lsn(m.LSN)
		w.time(m.Time)
	}
	w.count(len(h.Tables))
	for i := range h.Tables {
		h.Tables[i].write(w)
	}
	w.count(len(h.Objects))
	for i := range h.Objects {
		h.Objects[i].write(w)
	}
}

func (h *Head) read(p *parser) {
	tables := h.Tables[:0]
	*h = Head{Segment: pg.Segment{Timeline: pg.Timeline(p.u32()), Number: p.uint()}, From: p.lsn(), To: p.lsn(), End: p.lsn()}
	for _, n := range []*int64{&h.Records, &h.Bytes, &h.Commits, &h.Aborts} {
		*n = int64(p.uint())
	}
	h.MinXID, h.MaxXID = pg.FullXID(p.uint()), pg.FullXID(p.uint())
	if h.Commits > 0 {
		h.Earliest, h.Latest = p.time(), p.time()
		for _, c := range []*Commit{&h.First, &h.Last} {
			*c = Commit{pg.FullXID(p.uint()), p.lsn(), p.time()}
		}
	}
	p.kinds = kindsOfFormat1
	if p.format > 1 {
		p.kinds = p.count()
	}
	for k := range p.kinds {
		p.countOf(&h.Most, k)
	}
	h.MostRows = p.int()
	for range p.count() {
		h.RestorePoints = append(h.RestorePoints, RestorePoint{p.text(), p.lsn(), p.time()})
	}
	n := p.count()
	for range n {
		var s TableSum
		s.read(p)
		tables = append(tables, s)
		if p.bad {
			return
		}
	}
	if p.format > 2 {
		for range p.count() {
			var n Name
			n.read(p)
			h.Objects = append(h.Objects, n)
		}
	}
	h.Tables = tables // whose room is used again for the next head
}

func (s *TableSum) write(w *writer) {
	w.relation(s.File)
	w.bool(s.Known)
	if s.Known {
		s.Name.write(w)
	}
	for k := range Operations {
		w.int(s.Sum[k])
		if s.Sum[k] != 0 {
			w.int(s.Most[k])
		}
	}
}

func (s *TableSum) read(p *parser) {
	s.File = p.relation()
	if s.Known = p.bool(); s.Known {
		s.Name.read(p)
	}
	for k := range p.kinds {
		if p.countOf(&s.Sum, k) != 0 {
			p.countOf(&s.Most, k)
		}
	}
}

func (n *Name) write(w *writer) {
	w.uint(uint64(n.OID))
	w.text(n.Database)
	w.text(n.Schema)
	w.text(n.Table)
	w.uint(uint64(n.Part))
	w.text(n.Above)
}

func (n *Name) read(p *parser) {
	*n = Name{p.u32(), p.text(), p.text(), p.text(), Part(p.u32()), ""}
	if p.format > 1 {
		n.Above = p.text()
	}
}
