// Package blocks gathers which pages of which relations a stretch of WAL changes.
//
// Invariant: every page that a record refers to is in the set, whether the record
// carries an image of it or not, and what a record makes new or cuts off is told by Cut.
// What the WAL does not cover (free-space maps, visibility maps, files that are no
// relations) is left to the caller.
package blocks

import (
	"cmp"
	"maps"
	"math/bits"
	"slices"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Fork is one fork of a relation: its main pages, its visibility map, ….
type Fork struct {
	Relation wal.RelationRef
	Number   uint8 // ForkNumber
}

// Changed is the pages of one fork that were changed.
type Changed struct {
	Fork   Fork
	Blocks []uint32 // rising, without repeats
	// Cut is the smallest number of pages that the fork had meanwhile, or NotCut: it
	// was truncated to so many, or made anew with 0. What lies after it and is not in
	// Blocks is gone. Of a database whose files were copied as files there is a Fork
	// with filenode 0 and Cut 0: its pages are in no record.
	Cut uint32
}

// NotCut says that a relation was not truncated.
const NotCut = ^uint32(0)

// Set collects changed pages. The zero Set is ready.
type Set struct {
	forks  map[Fork]*pages
	recent [16]*pages // found without looking in forks, by their filenode
}

// pages are bits, for so many pages together: changes come in no order, and again and again.
type pages struct {
	fork   Fork
	groups map[uint32]*group // by number of page, divided by groupSize
	last   *group            // the one that was met last
	number uint32            // of it
	cut    uint32
}

const groupSize = 4096

type group [groupSize / 64]uint64

// See notes what a record of a server's major version changes.
func (s *Set) See(r *wal.Record, v *pg.Version) error {
	for i := range r.Blocks {
		b := &r.Blocks[i]
		s.of(Fork{b.Relation(), b.Fork}).add(b.Number)
	}
	if r.Manager != wal.ManagerStorage && r.Manager != wal.ManagerDatabase {
		return nil
	}
	body, err := wal.Decode(r, v)
	if err != nil {
		return err
	}
	switch b := body.(type) {
	case wal.FileTruncate:
		s.cut(Fork{Relation: b.Relation}, b.Blocks)
	case wal.FileCreate:
		s.cut(Fork{Relation: b.Relation, Number: b.Fork}, 0)
	case wal.DatabaseCreate:
		if b.FileCopy {
			s.cut(database(b.Database), 0)
		}
	}
	return nil
}

func (s *Set) cut(f Fork, pages uint32) {
	p := s.of(f)
	p.cut = min(p.cut, pages)
}

// database stands for every file of a database, in every tablespace.
func database(oid uint32) Fork { return Fork{Relation: wal.RelationRef{Database: oid}} }

// Add takes over what another set has gathered of a fork.
func (s *Set) Add(c Changed) {
	p := s.of(c.Fork)
	for _, n := range c.Blocks {
		p.add(n)
	}
	p.cut = min(p.cut, c.Cut)
}

// Since tells which of the pages from first to before end of a fork cannot be taken from
// what it was before: their numbers, rising, and from which page on none can.
func (s *Set) Since(f Fork, first, end uint32) (changed []uint32, cut uint32) {
	cut = end
	if d := s.forks[database(f.Relation.Database)]; d != nil && f.Relation.Database != 0 {
		cut = min(cut, max(d.cut, first))
	}
	p := s.forks[f]
	if p == nil {
		return nil, cut
	}
	return p.list(first, uint64(end)), min(cut, max(p.cut, first))
}

// Knows tells whether anything was gathered of a fork, or of its database as a whole.
func (s *Set) Knows(f Fork) bool {
	return s.forks[f] != nil || f.Relation.Database != 0 && s.forks[database(f.Relation.Database)] != nil
}

// Touches tells whether anything was gathered of a database.
func (s *Set) Touches(oid uint32) bool {
	for f := range s.forks {
		if f.Relation.Database == oid {
			return true
		}
	}
	return false
}

// CopiesFiles tells whether a database's files were copied as files.
func (s *Set) CopiesFiles() bool {
	for f := range s.forks {
		if f.Relation.Filenode == 0 {
			return true
		}
	}
	return false
}

// Least is how many pages a fork that had so many must have at least after all that was gathered.
func (s *Set) Least(f Fork, had uint32) uint32 {
	if s.forks[database(f.Relation.Database)] != nil && f.Relation.Database != 0 {
		return 0
	}
	p := s.forks[f]
	switch {
	case p == nil:
		return had
	case p.cut != NotCut: // what was changed may have been cut off since
		return min(had, p.cut)
	}
	for g, group := range p.groups {
		for i, word := range group {
			if word != 0 {
				had = max(had, g*groupSize+uint32(i*64+bits.Len64(word)))
			}
		}
	}
	return had
}

func (s *Set) of(f Fork) *pages {
	near := &s.recent[(f.Relation.Filenode+uint32(f.Number))%uint32(len(s.recent))]
	if *near != nil && (*near).fork == f {
		return *near
	}
	p := s.forks[f]
	if p == nil {
		p = &pages{fork: f, cut: NotCut, groups: make(map[uint32]*group)}
		if s.forks == nil {
			s.forks = make(map[Fork]*pages)
		}
		s.forks[f] = p
	}
	*near = p
	return p
}

func (p *pages) add(n uint32) {
	if g := n / groupSize; p.last == nil || p.number != g {
		p.number, p.last = g, p.groups[g]
		if p.last == nil {
			p.last = new(group)
			p.groups[g] = p.last
		}
	}
	p.last[n%groupSize/64] |= 1 << (n % 64)
}

// list gives the pages from first to before end, rising.
func (p *pages) list(first uint32, end uint64) (list []uint32) {
	for _, g := range slices.Sorted(maps.Keys(p.groups)) {
		if g < first/groupSize || uint64(g)*groupSize >= end {
			continue
		}
		for i, word := range p.groups[g] {
			for ; word != 0; word &= word - 1 {
				n := g*groupSize + uint32(i*64+bits.TrailingZeros64(word))
				if n >= first && uint64(n) < end {
					list = append(list, n)
				}
			}
		}
	}
	return list
}

// List gives what was collected, ordered by relation and fork.
func (s *Set) List() []Changed {
	var list []Changed
	for _, p := range s.forks {
		list = append(list, Changed{Fork: p.fork, Blocks: p.list(0, 1<<32), Cut: p.cut})
	}
	slices.SortFunc(list, func(a, b Changed) int {
		x, y := a.Fork.Relation, b.Fork.Relation
		return cmp.Or(cmp.Compare(x.Database, y.Database), cmp.Compare(x.Filenode, y.Filenode), cmp.Compare(x.Space, y.Space),
			cmp.Compare(a.Fork.Number, b.Fork.Number))
	})
	return list
}
