package repair

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/blocks"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

func TestClassOf(t *testing.T) {
	for name, want := range map[string]Class{
		"base/5/1259": Pages, "base/5/16385.1": Pages, "global/1262": Pages, "base/5/16390_init": Pages,
		"pg_tblspc/16400/PG_15_202209061/5/16401": Pages, "base/5/1259_fsm": Maps, "base/5/1259_vm": Renewed,
		"pg_xact/0000": Renewed, "pg_multixact/offsets/0000": Renewed, "pg_twophase/000003E8": Renewed, "base/5/pg_filenode.map": Renewed,
		"base/5/PG_VERSION": Renewed, "pg_logical/replorigin_checkpoint": Renewed, "postgresql.auto.conf": Kept,
		"base/5/t3_16385": Kept, "base/5/note.txt": Kept, "global/pg_control": Passing,
		"pg_wal/000000010000000000000001": Passing, "pg_replslot/velvet/state": Passing, "base/5/pg_internal.init": Passing,
		"base/pgsql_tmp/pgsql_tmp17.0": Passing, "backup_label": Passing, "pg_logical/mappings/x": Passing,
	} {
		assert.Equal(t, want, ClassOf(name), name)
	}
	assert.Equal(t, "base/5/16385_init", InitOf("base/5/16385.1"))
	assert.Equal(t, "base/5/16385_init", InitOf("base/5/16385_fsm"))
	assert.Empty(t, InitOf("base/5/16385_init"))
	assert.Empty(t, InitOf("pg_xact/0000"))
}

const name = "base/5/16385"

// page is a whole one, of an LSN.
func page(block uint32, at pg.LSN, filled byte) []byte {
	b := make([]byte, pg.BlockSize)
	for i := 100; i < len(b); i++ {
		b[i] = filled
	}
	binary.LittleEndian.PutUint32(b, uint32(at>>32))
	binary.LittleEndian.PutUint32(b[4:], uint32(at))
	binary.LittleEndian.PutUint16(b[12:], 28)
	binary.LittleEndian.PutUint16(b[14:], 100)
	binary.LittleEndian.PutUint16(b[16:], pg.BlockSize)
	binary.LittleEndian.PutUint16(b[18:], pg.BlockSize|4)
	binary.LittleEndian.PutUint16(b[8:], pg.PageChecksum(b, block))
	return b
}

// ground is one in which the WAL changes some pages of the file.
func ground(cut uint32, changed ...uint32) *Ground {
	g := &Ground{Start: 1000, End: 2000, Changed: new(blocks.Set), Checksums: true}
	g.Changed.Add(blocks.Changed{Fork: blocks.Fork{Relation: wal.RelationRef{Space: wal.DefaultSpace, Database: 5, Filenode: 16385}},
		Blocks: changed, Cut: cut})
	return g
}

// judge shows all pages of a file, of which the base has some and others lie on disk.
func judge(g *Ground, base, disk [][]byte) Findings {
	f := g.NewFile(name, int64(len(base))*pg.BlockSize, int64(len(disk))*pg.BlockSize, true)
	for n, d := range disk {
		var b []byte
		if n < len(base) {
			b = base[n]
		}
		f.Page(uint32(n), d, b)
	}
	return f.Done()
}

func TestPagesAreJudged(t *testing.T) {
	old := [][]byte{page(0, 900, 1), page(1, 900, 1), page(2, 900, 1)}
	torn := page(1, 1500, 2)
	torn[5000] ^= 4
	for what, c := range map[string]struct {
		g     *Ground
		disk  [][]byte
		pages []uint32
		fault string
		size  int64 // in pages, where it is cut
	}{
		"as the base":               {g: ground(blocks.NotCut), disk: old},
		"changed by WAL, and whole": {g: ground(blocks.NotCut, 1), disk: [][]byte{old[0], page(1, 1500, 2), old[2]}},
		"changed, and not flushed":  {g: ground(blocks.NotCut, 1), disk: old},
		"changed, and torn": {g: ground(blocks.NotCut, 1), disk: [][]byte{old[0], torn, old[2]}, pages: []uint32{1},
			fault: "checksum"},
		"changed, and from the future": {g: ground(blocks.NotCut, 1), disk: [][]byte{old[0], page(1, 2500, 2), old[2]}, pages: []uint32{1},
			fault: "which the WAL does not reach"},
		"older than the base": {g: ground(blocks.NotCut, 1), disk: [][]byte{old[0], page(1, 800, 2), old[2]}, pages: []uint32{1},
			fault: "older than the base"},
		"another's, and so nothing of it is relied on": {g: ground(blocks.NotCut, 1),
			disk: [][]byte{old[0], page(1, 1500, 2), page(2, 900, 7)}, pages: []uint32{1, 2}, fault: "no WAL changes it"},
		"too short":          {g: ground(blocks.NotCut, 1), disk: old[:2], pages: []uint32{2}, fault: "page 2: it is missing"},
		"cut off by the WAL": {g: ground(1), disk: old[:1]},
		"longer by the WAL":  {g: ground(blocks.NotCut, 3), disk: append(old[:3:3], page(3, 1500, 2))},
		"longer by nothing": {g: ground(blocks.NotCut), disk: append(old[:3:3], page(3, 900, 2)), pages: []uint32{},
			fault: "page 3", size: 3},
		"longer by pages of zeroes": {g: ground(blocks.NotCut), disk: append(old[:3:3], make([]byte, pg.BlockSize))},
		"strictly nothing but the base": {g: strictly(ground(blocks.NotCut, 1)), disk: [][]byte{old[0], page(1, 1500, 2), old[2]},
			pages: []uint32{1}, fault: "differs"},
	} {
		d := judge(c.g, old, c.disk)
		if c.fault == "" {
			assert.Empty(t, d.Fault, what)
			assert.Empty(t, d.Pages, what)
			assert.False(t, d.Truncate, what)
			continue
		}
		assert.Contains(t, d.Fault, c.fault, what)
		assert.Equal(t, c.pages, d.Pages, what)
		assert.Equal(t, c.size > 0, d.Truncate, what)
		if d.Truncate {
			assert.Equal(t, c.size*pg.BlockSize, d.Size, what)
		}
	}
}

func strictly(g *Ground) *Ground {
	g.Strict = true
	return g
}

// TestWhatIsLeftIsRight makes a file as the WAL left it, damages it, and does what is found: then every page is one that replay makes the
// right one of, which is the base's, or the right one already.
func TestWhatIsLeftIsRight(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 9).Draw(t, "pages")
		var base, right, disk [][]byte
		var changed []uint32
		for i := range n {
			base = append(base, page(uint32(i), 900, byte(i)))
			right = append(right, base[i])
			if rapid.Bool().Draw(t, "changed") {
				changed = append(changed, uint32(i))
				right[i] = page(uint32(i), 1500, byte(i+100))
			}
		}
		g := ground(blocks.NotCut, changed...)
		g.Strict = rapid.Bool().Draw(t, "strict")
		for i := range rapid.IntRange(0, n).Draw(t, "left") {
			d := append([]byte{}, right[i]...)
			if rapid.Bool().Draw(t, "damaged") {
				d[rapid.IntRange(0, pg.BlockSize-1).Draw(t, "at")] ^= 1 << rapid.IntRange(0, 7).Draw(t, "bit")
			}
			disk = append(disk, d)
		}
		d := judge(g, base, disk)
		if d.Truncate {
			disk = disk[:d.Size/pg.BlockSize]
		}
		for _, p := range d.Pages {
			for len(disk) <= int(p) {
				disk = append(disk, make([]byte, pg.BlockSize))
			}
			disk[p] = base[p]
		}
		require.Len(t, disk, n)
		for i := range disk {
			if string(disk[i]) != string(base[i]) {
				require.Equal(t, right[i], disk[i], "page %d", i)
				require.False(t, g.Strict)
			}
		}
	})
}
