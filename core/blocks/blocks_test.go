package blocks

import (
	"encoding/binary"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// TestSetAgainstAModel shows random block references and holds the set against maps.
func TestSetAgainstAModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var s Set
		model := make(map[Fork]map[uint32]bool)
		cut := make(map[Fork]uint32)
		for range rapid.IntRange(0, 400).Draw(t, "records") {
			if rapid.IntRange(0, 9).Draw(t, "cuts") == 0 {
				ref := wal.RelationRef{Space: 1663, Database: 5, Filenode: rapid.Uint32Range(1, 3).Draw(t, "file")}
				f, to := Fork{Relation: ref}, rapid.Uint32Range(0, 200).Draw(t, "pages")
				r := &wal.Record{Manager: wal.ManagerStorage, Info: 0x20, Main: words32(to, 1663, 5, ref.Filenode, 7)}
				if rapid.Bool().Draw(t, "made anew") {
					f.Number, to = rapid.Uint8Range(0, 2).Draw(t, "fork"), 0
					r = &wal.Record{Manager: wal.ManagerStorage, Info: 0x10, Main: words32(1663, 5, ref.Filenode, uint32(f.Number))}
				}
				if model[f] == nil {
					model[f], cut[f] = make(map[uint32]bool), NotCut
				}
				cut[f] = min(cut[f], to)
				require.NoError(t, s.See(r, pg.Major(15)))
				continue
			}
			r := &wal.Record{Manager: wal.ManagerHeap}
			for range rapid.IntRange(1, 3).Draw(t, "blocks") {
				b := wal.Block{Space: 1663, Database: 5, Filenode: rapid.Uint32Range(1, 3).Draw(t, "file"),
					Fork: rapid.Uint8Range(0, 2).Draw(t, "fork"), Number: rapid.Uint32Range(0, 200).Draw(t, "block")}
				r.Blocks = append(r.Blocks, b)
				f := Fork{b.Relation(), b.Fork}
				if model[f] == nil {
					model[f], cut[f] = make(map[uint32]bool), NotCut
				}
				model[f][b.Number] = true
			}
			require.NoError(t, s.See(r, pg.Major(15)))
		}
		list := s.List()
		require.Len(t, list, len(model))
		for _, c := range list {
			require.True(t, slices.IsSorted(c.Blocks))
			require.Len(t, c.Blocks, len(model[c.Fork]))
			for _, b := range c.Blocks {
				require.True(t, model[c.Fork][b])
			}
			require.Equal(t, cut[c.Fork], c.Cut)
		}
	})
}

func TestTruncation(t *testing.T) {
	var main []byte
	for _, v := range []uint32{7, 1663, 5, 16385, 7} { // to 7 pages
		main = binary.LittleEndian.AppendUint32(main, v)
	}
	var s Set
	require.NoError(t, s.See(&wal.Record{Manager: wal.ManagerStorage, Info: 0x20, Main: main}, pg.Major(15)))
	require.Equal(t, []Changed{{Fork: Fork{Relation: wal.RelationRef{Space: 1663, Database: 5, Filenode: 16385}}, Cut: 7, Blocks: nil}},
		s.List())
	require.Error(t, s.See(&wal.Record{Manager: wal.ManagerStorage, Info: 0x20, Main: main[:9]}, pg.Major(15)))
}
