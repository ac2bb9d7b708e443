package blocks

import (
	"encoding/binary"
	"maps"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

func words32(list ...uint32) (b []byte) {
	for _, v := range list {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return b
}

// file is a model of one fork: what stands in each of its pages.
type file []int

// disk is a model of a server's files; stamp makes every write of a page another content.
type disk struct {
	files map[Fork]file
	stamp int
}

func (d *disk) copy() map[Fork]file {
	c := make(map[Fork]file)
	for f, pages := range d.files {
		c[f] = append(file(nil), pages...)
	}
	return c
}

// change does something to the files and returns its record, or nil where the server writes none.
func (d *disk) change(t *rapid.T) *wal.Record {
	f := Fork{wal.RelationRef{Space: 1663, Database: rapid.Uint32Range(4, 5).Draw(t, "database"),
		Filenode: rapid.Uint32Range(1, 3).Draw(t, "file")}, 0}
	ref := []uint32{f.Relation.Space, f.Relation.Database, f.Relation.Filenode}
	d.stamp++
	switch rapid.IntRange(0, 12).Draw(t, "what") {
	case 0: // truncated
		keep := rapid.IntRange(0, len(d.files[f])).Draw(t, "pages")
		d.files[f] = d.files[f][:keep]
		return &wal.Record{Manager: wal.ManagerStorage, Info: 0x20, Main: words32(append(append([]uint32{uint32(keep)}, ref...), 7)...)}
	case 1: // its number used anew
		d.files[f] = nil
		return &wal.Record{Manager: wal.ManagerStorage, Info: 0x10, Main: words32(append(ref, 0)...)}
	case 2: // the database made anew from the files of another
		for g := range d.files {
			if g.Relation.Database == f.Relation.Database {
				delete(d.files, g)
			}
		}
		for n := range 3 {
			g := Fork{wal.RelationRef{Space: 1663, Database: f.Relation.Database, Filenode: uint32(n + 1)}, 0}
			for range rapid.IntRange(0, 6).Draw(t, "copied") {
				d.stamp++
				d.files[g] = append(d.files[g], d.stamp)
			}
		}
		return &wal.Record{Manager: wal.ManagerDatabase, Info: 0x00, Main: words32(f.Relation.Database, 1663, 1, 1663)}
	}
	if rapid.IntRange(0, 3).Draw(t, "extended") == 0 {
		d.files[f] = append(d.files[f], make(file, rapid.IntRange(1, 6).Draw(t, "empty pages"))...)
		return nil
	}
	r := &wal.Record{Manager: wal.ManagerHeap}
	for range rapid.IntRange(1, 2).Draw(t, "blocks") {
		n := rapid.IntRange(0, len(d.files[f])).Draw(t, "block")
		if n == len(d.files[f]) {
			d.files[f] = append(d.files[f], 0)
		}
		d.files[f][n] = d.stamp
		r.Blocks = append(r.Blocks, wal.Block{Space: ref[0], Database: ref[1], Filenode: ref[2], Number: uint32(n)})
	}
	return r
}

// TestSinceIsEnough holds the promise on which an incremental backup stands: whatever
// was done to a file, what Since does not tell of it is as it was. The changes come in
// several pieces, as the journal's indexes keep them, and the pages are asked for in
// pieces, as a large relation's files are.
func TestSinceIsEnough(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := &disk{files: make(map[Fork]file)}
		for range rapid.IntRange(0, 30).Draw(t, "before") {
			d.change(t)
		}
		was := d.copy()
		var all Set
		for range rapid.IntRange(0, 4).Draw(t, "segments") {
			var one Set
			for range rapid.IntRange(0, 12).Draw(t, "records") {
				if r := d.change(t); r != nil {
					require.NoError(t, one.See(r, pg.Major(15)))
				}
			}
			for _, c := range one.List() {
				all.Add(c)
			}
		}
		const piece = 4
		for f := range maps.Keys(d.files) {
			is := d.files[f]
			for first := 0; first < len(is); first += piece {
				end := min(first+piece, len(is))
				changed, cut := all.Since(f, uint32(first), uint32(end))
				made := make(map[int]bool)
				for _, n := range changed {
					require.True(t, int(n) >= first && int(n) < end)
					made[int(n)] = true
				}
				require.True(t, int(cut) >= first && int(cut) <= end)
				for n := first; n < end; n++ {
					if n >= int(cut) || made[n] || n >= len(was[f]) {
						continue // is read
					}
					require.Equal(t, was[f][n], is[n], "page %d of %v", n, f)
				}
			}
		}
	})
}

// TestAnUntouchedFileIsNotRead holds the other side: nothing is read that is as it was.
func TestAnUntouchedFileIsNotRead(t *testing.T) {
	var s Set
	touched := wal.RelationRef{Space: 1663, Database: 5, Filenode: 1}
	require.NoError(t, s.See(&wal.Record{Manager: wal.ManagerHeap,
		Blocks: []wal.Block{{Space: 1663, Database: 5, Filenode: 1, Number: 70}}}, pg.Major(15)))
	for name, c := range map[string]struct {
		fork       Fork
		first, end uint32
		changed    []uint32
	}{
		"the page itself":              {Fork{Relation: touched}, 64, 128, []uint32{70}},
		"pages in front of it":         {Fork{Relation: touched}, 0, 64, nil},
		"pages after it":               {Fork{Relation: touched}, 128, 192, nil},
		"another fork":                 {Fork{Relation: touched, Number: 2}, 64, 128, nil},
		"the same number elsewhere":    {Fork{Relation: wal.RelationRef{Space: 1664, Database: 5, Filenode: 1}}, 64, 128, nil},
		"the same in another database": {Fork{Relation: wal.RelationRef{Space: 1663, Database: 6, Filenode: 1}}, 64, 128, nil},
	} {
		changed, cut := s.Since(c.fork, c.first, c.end)
		require.ElementsMatch(t, c.changed, changed, name)
		require.Equal(t, c.end, cut, name)
	}
	require.NoError(t, s.See(&wal.Record{Manager: wal.ManagerDatabase, Info: 0x00, Main: words32(6, 1663, 1, 1663)}, pg.Major(15)))
	_, cut := s.Since(Fork{Relation: wal.RelationRef{Space: 1663, Database: 6, Filenode: 1}}, 64, 128)
	require.Equal(t, uint32(64), cut, "of a database that was copied as files nothing is as it was")
	_, cut = s.Since(Fork{Relation: wal.RelationRef{Space: 1664, Filenode: 1}}, 64, 128)
	require.Equal(t, uint32(128), cut, "shared relations belong to no database")
}
