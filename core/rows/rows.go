// Package rows finds the rows that a transaction changed: what they were, and what they became, as far as the WAL holds
// them.
//
// Invariant: a row is given only where a record of the WAL, or the image of its page and all records of that page since,
// hold it whole; of every other it is told where it lay. Which transaction and which files are meant, and reading the
// WAL, is the caller's business, as is what the columns' bytes mean, which package value knows.
package rows

import (
	"bytes"
	"encoding/binary"

	"velvetrewind/core/pg"
	"velvetrewind/core/value"
	"velvetrewind/core/wal"
)

// Change is a row that was changed.
type Change struct {
	At       pg.LSN // start of the record
	Old, New wal.Place
	Moved    bool // into another partition, or from there
	// Before and After are the row's forms; nil where there is none, or it is not known. OnlyKey: of Before only what
	// identifies the row is known, the columns that are NULL in it are not.
	Before, After *wal.Tuple
	OnlyKey       bool
}

// Deleted tells whether the row is gone.
func (c *Change) Deleted() bool { return c.New.Offset == 0 }

// Inserted tells whether there was no row before.
func (c *Change) Inserted() bool { return c.Old.Offset == 0 }

// Wanted says which rows are looked for.
type Wanted struct {
	XIDs   map[pg.XID]bool          // of the transaction and its sub-transactions
	Tables map[wal.RelationRef]bool // files of rows
	Toast  map[wal.RelationRef]bool // files of values that are kept outside their rows
	Limit  int                      // so many rows at most
}

// mostChunks bounds how many places of the TOAST files are looked at, and chunkBytes what is kept of them.
const (
	mostChunks = 4096
	chunkBytes = 16 << 20
)

// Scout goes over a transaction's records first, and finds which pages must be known.
type Scout struct {
	want   Wanted
	places []wanted
	pages  map[page]bool
	chunks int
	More   bool // there are more rows than the limit
}

type wanted struct {
	at    pg.LSN
	event int // of the record
}

type page struct {
	relation wal.RelationRef
	block    uint32
}

// NewScout looks for rows.
func NewScout(w Wanted) *Scout { return &Scout{want: w, pages: make(map[page]bool)} }

// See takes the transaction's next record; enough tells that no more are wanted.
func (s *Scout) See(r *wal.Record) (enough bool, err error) {
	if !s.want.XIDs[r.XID] {
		return false, nil
	}
	events, err := wal.RowEvents(r)
	if err != nil {
		return false, err
	}
	for i, e := range events {
		ref := relationOf(&e)
		switch {
		case s.want.Toast[ref] && s.chunks < mostChunks:
			s.chunks++
			s.need(e)
		case !s.want.Tables[ref] || e.Undone:
		case len(s.places) == s.want.Limit:
			s.More = true
			return true, nil
		default:
			s.places = append(s.places, wanted{r.Start, i})
			s.need(e)
		}
	}
	return false, nil
}

func (s *Scout) need(e wal.RowEvent) {
	for _, p := range []wal.Place{e.Old, e.New} {
		if p.Offset != 0 {
			s.pages[page{p.Relation, p.Block}] = true
		}
	}
}

// Finder goes over the WAL from some time before the transaction on, and follows the pages that a Scout has found.
type Finder struct {
	want    Wanted
	places  []wanted
	pages   map[page]map[uint16]wal.Tuple // what is known of them
	needed  map[page]bool
	found   []Change
	chunks  map[uint32]map[uint32][]byte // of values outside their rows: by value and number
	chunked int
}

// Finder finds the rows that the scout saw.
func (s *Scout) Finder() *Finder {
	return &Finder{want: s.want, places: s.places, needed: s.pages, pages: make(map[page]map[uint16]wal.Tuple),
		chunks: make(map[uint32]map[uint32][]byte)}
}

// Changes are the rows that were found, in the order of the log.
func (f *Finder) Changes() []Change { return f.found }

// See takes the next record.
func (f *Finder) See(r *wal.Record, v *pg.Version) error {
	images, err := f.images(r, v)
	if err != nil {
		return err
	}
	events, err := wal.RowEvents(r)
	if err != nil {
		return err
	}
	if len(events) == 0 {
		return f.overwritten(r, v)
	}
	if b := &r.Blocks[0]; b.WillInit && !images[0] {
		delete(f.pages, page{b.Relation(), b.Number})
	}
	for i := range events {
		f.event(r, i, &events[i])
	}
	return nil
}

// images takes over the images of pages that a record carries, and tells of which of its blocks.
func (f *Finder) images(r *wal.Record, v *pg.Version) (have [2]bool, err error) {
	for i := range r.Blocks {
		b := &r.Blocks[i]
		at := page{b.Relation(), b.Number}
		if b.Fork != 0 || len(b.Image) == 0 || !f.needed[at] {
			continue
		}
		content, err := b.Page(v)
		if err != nil {
			return have, &wal.Damage{LSN: r.Start, Reason: err.Error()}
		}
		known := make(map[uint16]wal.Tuple)
		for offset := uint16(1); offset <= wal.TuplesOnPage(content); offset++ {
			if t, err := wal.TupleOnPage(content, offset); err == nil {
				known[offset] = t
				f.chunk(at.relation, &t)
			}
		}
		f.pages[at] = known
		if i < len(have) {
			have[i] = true
		}
	}
	return have, nil
}

// event follows one row.
func (f *Finder) event(r *wal.Record, i int, e *wal.RowEvent) {
	old := f.known(e.Old)
	form, ok := e.Form(old)
	after := f.known(e.New) // from the image
	if ok {
		form.Data = bytes.Clone(form.Data)
		after = &form
	} else if e.Tuple != nil {
		after = nil
	}
	f.set(e.New, after)
	if after != nil && f.want.XIDs[r.XID] {
		f.chunk(e.New.Relation, after)
	}
	if len(f.places) == 0 || f.places[0] != (wanted{r.Start, i}) {
		return
	}
	f.places = f.places[1:]
	c := Change{At: r.Start, Old: e.Old, New: e.New, Moved: e.Moved, Before: old}
	if e.New.Offset != 0 {
		c.After = after
	}
	if c.Before == nil && e.Logged != nil {
		logged := *e.Logged
		logged.Data = bytes.Clone(logged.Data)
		c.Before, c.OnlyKey = &logged, e.KeyOnly
	}
	f.found = append(f.found, c)
}

// overwritten forgets a page of which a row is overwritten in place, as only catalogs' are.
func (f *Finder) overwritten(r *wal.Record, v *pg.Version) error {
	if r.Manager != wal.ManagerHeap || len(r.Blocks) == 0 || len(r.Blocks[0].Image) > 0 {
		return nil
	}
	body, err := wal.Decode(r, v)
	if _, is := body.(wal.HeapPlace); is {
		delete(f.pages, page{r.Blocks[0].Relation(), r.Blocks[0].Number})
	}
	return err
}

// known is what a row is known to be; nil for what is not.
func (f *Finder) known(p wal.Place) *wal.Tuple {
	if t, is := f.pages[page{p.Relation, p.Block}][p.Offset]; is && p.Offset != 0 {
		return &t
	}
	return nil
}

// set takes over what lies at a place from now on.
func (f *Finder) set(p wal.Place, t *wal.Tuple) {
	at := page{p.Relation, p.Block}
	switch {
	case p.Offset == 0 || !f.needed[at]:
	case t == nil:
		delete(f.pages[at], p.Offset)
	default:
		if f.pages[at] == nil {
			f.pages[at] = make(map[uint16]wal.Tuple)
		}
		f.pages[at][p.Offset] = *t
	}
}

// chunk keeps a part of a value outside its row (access/toast_internals.h): its id, its number, its bytes.
func (f *Finder) chunk(of wal.RelationRef, t *wal.Tuple) {
	b := t.Body()
	if !f.want.Toast[of] || len(b) < 9 || t.Columns() != 3 {
		return
	}
	id, number := binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint32(b[4:])
	content, ok := value.Chunk(b[8:])
	if !ok || f.chunked+len(content) > chunkBytes {
		return
	}
	if f.chunks[id] == nil {
		f.chunks[id] = make(map[uint32][]byte)
	}
	f.chunked += len(content) - len(f.chunks[id][number])
	f.chunks[id][number] = bytes.Clone(content)
}

// outside puts a value together that is kept outside its row.
func (f *Finder) outside(p value.Pointer) (stored []byte, ok bool) {
	parts := f.chunks[p.ID]
	for n := uint32(0); len(stored) < p.Size; n++ {
		part, has := parts[n]
		if !has || len(part) == 0 {
			return nil, false
		}
		stored = append(stored, part...)
	}
	return stored, len(stored) == p.Size
}

// Cells gives the values of a row that was found.
func (f *Finder) Cells(columns []value.Column, t *wal.Tuple) ([]value.Cell, error) {
	return value.Read(columns, value.Row{Columns: t.Columns(), Nulls: t.Nulls(), Body: t.Body()}, f.outside)
}

// relationOf is the file of a row, of one that is replaced that of its new form.
func relationOf(e *wal.RowEvent) wal.RelationRef {
	if e.New.Offset != 0 {
		return e.New.Relation
	}
	return e.Old.Relation
}

// Done tells whether all rows were found.
func (f *Finder) Done() bool { return len(f.places) == 0 }
