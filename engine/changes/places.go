package changes

import (
	"cmp"
	"context"
	"slices"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Places are where the rows lay that a transaction took from a file, in the order of the file.
type Places struct {
	Table journal.Name
	File  wal.RelationRef
	List  []RowPlace
}

// RowPlace is where a row lay, and where its last form of the transaction lies.
type RowPlace struct {
	Block, NewBlock   uint32
	Offset, NewOffset uint16 // NewOffset is 0 where that is not known
	NewTable          uint32 // oid of the partition into which it was moved; 0 for none
	Updated           bool   // else it is deleted
}

// Places finds where the rows lay that a transaction deleted or updated in tables that are wanted; those that it had made itself
// are among them, unless others' transactions may have come in between: of several taken together they are left out.
func (j *Journal) Places(ctx context.Context, e Entry, several bool, want func(journal.Name) bool) ([]Places, error) {
	files, err := j.filesOf(ctx, &e, want)
	if err != nil {
		return nil, err
	}
	c := collector{wanted: files.XIDs, files: make(map[wal.RelationRef]*placesOf)}
	if several {
		c.made = make(made)
	}
	for ref := range files.Tables {
		c.files[ref] = &placesOf{Places: Places{Table: files.names[ref], File: ref}, last: make(map[uint64]last)}
	}
	err = j.follow(ctx, j.archive.Cluster.SegmentSize.Number(e.First), e.First, e.End, func(r *wal.Record, _ *pg.Version) (bool, error) {
		return false, c.see(r)
	})
	var list []Places
	for _, p := range c.files {
		slices.SortFunc(p.List, func(a, b RowPlace) int {
			return cmp.Or(cmp.Compare(a.Block, b.Block), cmp.Compare(a.Offset, b.Offset))
		})
		list = append(list, p.Places)
	}
	slices.SortFunc(list, func(a, b Places) int { return cmp.Compare(a.Table.OID, b.Table.OID) })
	return list, err
}

type collector struct {
	wanted map[pg.XID]bool
	files  map[wal.RelationRef]*placesOf
	made   made // rows that the transactions inserted; nil where that does not matter
	// moving is the file of the row deleted last, if that is being moved into another partition, and its number there.
	moving *placesOf
	index  int
}

type placesOf struct {
	Places
	last map[uint64]last // the rows whose newest form lies at a place
}

func (c *collector) see(r *wal.Record) error {
	if !c.wanted[r.XID] {
		return nil
	}
	events, err := wal.RowEvents(r)
	if err != nil {
		return err
	}
	for i := range events {
		e := &events[i]
		if e.Old.Offset == 0 {
			c.moved(e.New)
			continue
		}
		if c.made.take(e.Old) {
			c.make(e.New)
			continue
		}
		if f := c.files[e.Old.Relation]; f != nil && !e.Undone {
			of, index := f.add(e)
			if c.moving = nil; e.Moved {
				c.moving, c.index = of, index
			}
		}
	}
	return nil
}

// moved takes in where a row was inserted: that is the rest of a move if one is under way among the partitions of the table.
func (c *collector) moved(to wal.Place) {
	f := c.files[to.Relation]
	if f == nil || c.moving == nil || f.Table.Above != c.moving.Table.Above {
		c.make(to)
		return
	}
	row := &c.moving.List[c.index]
	row.NewTable, row.NewBlock, row.NewOffset = f.Table.OID, to.Block, to.Offset
	f.last[at(to)] = last{c.moving, c.index}
	c.moving = nil
}

// make takes in a row that is the transactions' own.
func (c *collector) make(row wal.Place) {
	if c.made != nil && row.Offset != 0 && c.files[row.Relation] != nil {
		c.made.add(row)
	}
}

// made are places of rows, a bit for each: there may be very many.
type made map[wal.RelationRef]map[uint32]*[5]uint64

func (m made) add(row wal.Place) {
	pages := m[row.Relation]
	if pages == nil {
		pages = make(map[uint32]*[5]uint64)
		m[row.Relation] = pages
	}
	bits := pages[row.Block]
	if bits == nil {
		bits = new([5]uint64)
		pages[row.Block] = bits
	}
	if n := int(row.Offset) / 64; n < len(bits) { // more rows than that are on no page
		bits[n] |= 1 << (row.Offset % 64)
	}
}

// take tells whether a place is among them, and removes it.
func (m made) take(row wal.Place) bool {
	bits, n := m[row.Relation][row.Block], int(row.Offset)/64
	if bits == nil || n >= len(bits) || bits[n]>>(row.Offset%64)&1 == 0 {
		return false
	}
	bits[n] &^= 1 << (row.Offset % 64)
	return true
}

func at(place wal.Place) uint64 { return uint64(place.Block)<<16 | uint64(place.Offset) }

// last is a row whose newest form lies somewhere, by its number among those of the file where it lay at first.
type last struct {
	of    *placesOf
	index int
}

// add takes in a row that is deleted or updated; one that the transaction updates again keeps the place where it lay at first.
func (p *placesOf) add(e *wal.RowEvent) (of *placesOf, index int) {
	l, again := p.last[at(e.Old)]
	if !again {
		l = last{p, len(p.List)}
		p.List = append(p.List, RowPlace{Block: e.Old.Block, Offset: e.Old.Offset})
	}
	delete(p.last, at(e.Old))
	row := &l.of.List[l.index]
	row.NewBlock, row.NewOffset = e.New.Block, e.New.Offset
	row.Updated = e.New.Offset != 0 || e.Moved
	if row.NewTable = 0; l.of != p {
		row.NewTable = p.Table.OID
	}
	if e.New.Offset != 0 {
		p.last[at(e.New)] = l
	}
	return l.of, l.index
}
