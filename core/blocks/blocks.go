// Package blocks gathers which pages of which relations a stretch of WAL changes.
//
// Invariant: every page that a record refers to is in the set, whether the record
// carries an image of it or not. What the WAL does not cover (free-space maps,
// file-copied databases, files that are no relations) is left to the caller.
package blocks

import (
	"cmp"
	"slices"

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
	// Cut is the smallest number of pages that the relation was truncated to
	// meanwhile, or NotCut. What lies behind it and is not in Blocks is gone.
	Cut uint32
}

// NotCut says that a relation was not truncated.
const NotCut = ^uint32(0)

// Set collects changed pages. The zero Set is ready.
type Set struct {
	forks map[Fork]*pages
	last  *pages
}

type pages struct {
	fork   Fork
	blocks []uint32
	sorted int // so many at the front are rising and without repeats
	cut    uint32
}

// See notes what a record changes.
func (s *Set) See(r *wal.Record) error {
	for i := range r.Blocks {
		b := &r.Blocks[i]
		s.of(Fork{b.Relation(), b.Fork}).add(b.Number)
	}
	if r.Manager != wal.ManagerStorage {
		return nil
	}
	body, err := wal.Decode(r, 0) // the same in every version
	if err != nil {
		return err
	}
	if t, ok := body.(wal.FileTruncate); ok {
		p := s.of(Fork{Relation: t.Relation})
		p.cut = min(p.cut, t.Blocks)
	}
	return nil
}

func (s *Set) of(f Fork) *pages {
	if s.last != nil && s.last.fork == f {
		return s.last
	}
	p := s.forks[f]
	if p == nil {
		p = &pages{fork: f, cut: NotCut}
		if s.forks == nil {
			s.forks = make(map[Fork]*pages)
		}
		s.forks[f] = p
	}
	s.last = p
	return p
}

// add keeps the list short by sorting it whenever it has doubled.
func (p *pages) add(n uint32) {
	if k := len(p.blocks); k > 0 && p.blocks[k-1] == n {
		return
	}
	p.blocks = append(p.blocks, n)
	if len(p.blocks) > 2*p.sorted+64 {
		p.compact()
	}
}

func (p *pages) compact() {
	slices.Sort(p.blocks)
	p.blocks = slices.Compact(p.blocks)
	p.sorted = len(p.blocks)
}

// List gives what was collected, ordered by relation and fork.
func (s *Set) List() []Changed {
	var list []Changed
	for _, p := range s.forks {
		p.compact()
		list = append(list, Changed{Fork: p.fork, Blocks: slices.Clone(p.blocks), Cut: p.cut})
	}
	slices.SortFunc(list, func(a, b Changed) int {
		x, y := a.Fork.Relation, b.Fork.Relation
		return cmp.Or(cmp.Compare(x.Database, y.Database), cmp.Compare(x.Filenode, y.Filenode), cmp.Compare(x.Space, y.Space), cmp.Compare(a.Fork.Number, b.Fork.Number))
	})
	return list
}
