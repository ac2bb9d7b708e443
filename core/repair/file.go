package repair

import (
	"fmt"
	"slices"

	"velvetrewind/core/blocks"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// File judges one file of a relation, whose pages are shown to it in any order. Pages are numbered within the file.
type File struct {
	ground   *Ground
	first    uint32 // number of its first page within the relation
	had, has uint32 // pages that the base has of it, and that lie on disk
	last     bool   // no other file of the relation follows
	torn     bool   // it ends within a page
	changed  []uint64
	cut      uint32 // from this one on the base's pages were cut off
	newer    []uint32
	wrong    []uint32
	doubted  bool // a page is wrong that no WAL brings back: the file may be another's
	fault    string
	certain  bool // something is wrong, and does not only differ
}

// NewFile begins with a file at a path, of which the base has some bytes and so many lie on disk. last says that no file follows that
// holds more of the relation.
func (g *Ground) NewFile(name string, had, has int64, last bool) *File {
	ref, rel, _ := wal.RelationOf(name)
	f := &File{ground: g, first: rel.FirstBlock(), had: uint32(had / pg.BlockSize), has: uint32(has / pg.BlockSize), last: last}
	pages := max(f.had, f.has)
	list, cut := g.Changed.Since(blocks.Fork{Relation: ref, Number: forkNumbers[rel.Fork]}, f.first, f.first+pages)
	f.changed = make([]uint64, (pages+63)/64)
	for _, n := range list {
		f.changed[(n-f.first)/64] |= 1 << ((n - f.first) % 64)
	}
	f.cut = cut - f.first
	if f.torn = has%pg.BlockSize != 0; f.torn {
		f.certain = true
		f.fault = fmt.Sprintf("it ends within page %d", f.first+f.has)
	}
	return f
}

// Changed tells whether the WAL changes a page.
func (f *File) Changed(page uint32) bool {
	return page/64 < uint32(len(f.changed)) && f.changed[page/64]&(1<<(page%64)) != 0
}

// Newer takes a page for newer than the base's, if it is: what the base has of it does not matter then.
func (f *File) Newer(n uint32, disk []byte) bool {
	if !f.Changed(n) {
		return false
	}
	v, _ := f.ground.page(disk, nil, f.first+n, true)
	if v == Newer {
		f.newer = append(f.newer, n)
	}
	return v == Newer
}

// Took tells whether a page was taken for newer already.
func (f *File) Took(n uint32) bool {
	_, is := slices.BinarySearch(f.newer, n)
	return is
}

// Left is how many pages are left as they are though the base has them otherwise.
func (f *File) Left() int { return len(f.newer) }

// Lost says of a page that it cannot be read.
func (f *File) Lost(n uint32, why error) { f.fail(n, why.Error()) }

// Page shows a page of the file as it lies on disk, with the base's, or nil where that has none.
func (f *File) Page(n uint32, disk, base []byte) {
	switch v, fault := f.ground.page(disk, base, f.first+n, f.Changed(n)); v {
	case Newer:
		f.newer = append(f.newer, n)
	case Wrong:
		f.fail(n, fault)
	}
}

func (f *File) fail(n uint32, fault string) {
	f.wrong = append(f.wrong, n)
	if f.fault == "" || !f.certain && fault != unsure {
		f.fault = fmt.Sprintf("page %d: %s", f.first+n, fault)
	}
	f.certain = f.certain || fault != unsure
	f.doubted = f.doubted || !f.Changed(n)
}

// Findings are what there is to do about a file.
type Findings struct {
	Pages    []uint32 // to be written as the base has them, or empty where it has none; rising
	Truncate bool     // to Size
	Size     int64    // bytes
	Fault    string   // the first thing that is wrong; "" for nothing
	Unsure   bool     // nothing tells that it is wrong; it differs from the base
}

// Done says what there is to do when every page that lies on disk was shown, or was told to be whole.
func (f *File) Done() (d Findings) {
	for n := f.has; n < f.had; n++ {
		if f.ground.Strict || !f.ground.Checksums || n < f.cut {
			f.fail(n, "it is missing")
		}
	}
	if f.doubted {
		f.wrong, f.newer = append(f.wrong, f.newer...), nil
	}
	slices.Sort(f.wrong)
	slices.Sort(f.newer)
	d.Fault, d.Pages, d.Unsure = f.fault, f.wrong, f.fault != "" && !f.certain
	size, keep := f.has, f.had // pages of the file as it is to be, and that may be in it
	if n := len(f.newer); n > 0 {
		keep = max(keep, f.newer[n-1]+1)
	}
	if tail, _ := slices.BinarySearch(f.wrong, keep); f.last && tail < len(f.wrong) {
		size, d.Pages = keep, f.wrong[:tail]
	}
	d.Truncate = f.torn || size < f.has
	if n := len(d.Pages); n > 0 {
		size = max(size, d.Pages[n-1]+1)
	}
	d.Size = int64(size) * pg.BlockSize
	return d
}
