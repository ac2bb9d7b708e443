package restore_test

import (
	"bytes"
	"context"
	"hash/crc32"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
)

// TestManifestsThatLie lays out what manifests say that somebody has written who may write to the store: nothing is
// written outside of the trees, nothing is taken for right that is not, and no room is made for what is not there.
func TestManifestsThatLie(t *testing.T) {
	ctx := context.Background()
	g := &ground{Bed: testbed.New(t), cluster: "c"}
	objects, err := dir.Open(t.TempDir(), -1)
	require.NoError(t, err)
	g.vault = vault.Reading(objects, nil, nil)
	content := bytes.Repeat([]byte("ebb and flood "), 20_000) // of three extents
	pack, err := g.vault.CreatePack(ctx, g.cluster, "b-000001")
	require.NoError(t, err)
	var extents []layout.Extent
	for at := 0; at < len(content); at += layout.ExtentSize {
		piece := content[at:min(at+layout.ExtentSize, len(content))]
		frame := layout.AppendFrame(nil, piece, layout.S2)
		offset, err := pack.Add(frame, layout.HashOf(piece))
		require.NoError(t, err)
		extents = append(extents, layout.Extent{Pack: "b-000001", Offset: offset, Length: len(frame), Hash: layout.HashOf(piece)})
	}
	require.NoError(t, pack.Close())
	require.NoError(t, pack.Commit())
	crc := crc32.Checksum(content, pg.Castagnoli)
	file := func(change func(*layout.File)) *layout.File {
		f := &layout.File{Path: "base/5/1259", Mode: 0o600, Size: int64(len(content)), CRC32C: &crc,
			Sheet: layout.AppendSheet(nil, extents)}
		if change != nil {
			change(f)
		}
		return f
	}
	named := func(path string) func(*layout.File) { return func(f *layout.File) { f.Path = path } }
	sheet := func(e ...layout.Extent) func(*layout.File) {
		return func(f *layout.File) { f.Sheet, f.CRC32C = layout.AppendSheet(nil, e), nil }
	}
	other := extents[1]
	other.Hash[0] ^= 1
	elsewhere := extents[2]
	elsewhere.Pack = "b-000009"
	wrong := crc ^ 1
	for what, c := range map[string]struct {
		files []*layout.File
		ok    bool
	}{
		"the truth": {[]*layout.File{{Path: "base", Mode: 0o700, Dir: true}, file(nil),
			{Path: "pg_tblspc/16400/x", Mode: 0o600}}, true},
		"out of the tree":        {[]*layout.File{file(named("../out"))}, false},
		"out and in again":       {[]*layout.File{file(named("base/../../data/x"))}, false},
		"an absolute path":       {[]*layout.File{file(named(g.Path("absolute")))}, false},
		"beside the tablespaces": {[]*layout.File{file(named("pg_tblspc/../ticket.json"))}, false},
		"about in the tree":      {[]*layout.File{file(named("base/../global/1"))}, false},
		"no path":                {[]*layout.File{file(named(""))}, false},
		"the tree itself":        {[]*layout.File{file(named("."))}, false},
		"a file twice":           {[]*layout.File{file(nil), file(nil)}, false},
		"a file below a file":    {[]*layout.File{file(nil), file(named("base/5/1259/x"))}, false},
		"longer than its map":    {[]*layout.File{file(func(f *layout.File) { f.Size += layout.ExtentSize })}, false},
		"shorter than its map":   {[]*layout.File{file(func(f *layout.File) { f.Size -= layout.ExtentSize })}, false},
		"a byte longer":          {[]*layout.File{file(func(f *layout.File) { f.Size++ })}, false},
		"of less than nothing":   {[]*layout.File{file(func(f *layout.File) { f.Size = -1 })}, false},
		"of 4 EiB":               {[]*layout.File{file(func(f *layout.File) { f.Size = 1 << 62 })}, false},
		"of 4 EiB, its map elsewhere": {[]*layout.File{file(func(f *layout.File) {
			f.Size, f.Sheet, f.Sheets = 1<<62, nil, []layout.SheetRef{{Pack: "b-000001", Offset: 64, Length: 40}}
		})}, false},
		"without a map": {[]*layout.File{file(func(f *layout.File) { f.Sheet = nil })}, false},
		"another extent than it says": {[]*layout.File{file(func(f *layout.File) {
			f.Sheet = layout.AppendSheet(nil, []layout.Extent{extents[0], extents[0], extents[2]})
		})}, false},
		"a hash that is not so":    {[]*layout.File{file(sheet(extents[0], other, extents[2]))}, false},
		"a pack that is not there": {[]*layout.File{file(sheet(extents[0], extents[1], elsewhere))}, false},
		"zeroes for what was something": {[]*layout.File{file(func(f *layout.File) {
			f.Sheet = layout.AppendSheet(nil,
				[]layout.Extent{extents[0], {}, extents[2]})
		})}, false},
		"another checksum":          {[]*layout.File{file(func(f *layout.File) { f.CRC32C = &wrong })}, false},
		"a map that cannot be read": {[]*layout.File{file(func(f *layout.File) { f.Sheet = f.Sheet[:len(f.Sheet)-1] })}, false},
	} {
		w, err := g.vault.Create(ctx, store.ManifestKey(g.cluster, "b"), layout.S2)
		require.NoError(t, err)
		m, err := layout.NewManifestWriter(w, layout.Head{Backup: "b", Cluster: g.cluster})
		require.NoError(t, err)
		for _, f := range c.files {
			require.NoError(t, m.Add(f))
		}
		require.NoError(t, m.Finish(nil, layout.Tail{}))
		require.NoError(t, w.Commit())
		for _, over := range []bool{false, true} {
			name := "copy"
			if over {
				name = "copy-over"
			}
			trees := g.trees(name)
			require.NoError(t, trees.WriteFile("ticket.json", []byte("tide"), 0o600))
			lay := restore.LayOut
			if over {
				lay = restore.LayOver
			}
			_, err = lay(ctx, g.vault, g.cluster, "b", trees, 0, task.Silent)
			assert.Equal(t, c.ok, err == nil, "%s, over %t: %v", what, over, err)
			ticket, err := trees.ReadFile("ticket.json")
			require.NoError(t, err)
			assert.Equal(t, "tide", string(ticket), what)
			if c.ok {
				got, err := os.ReadFile(filepath.Join(g.Path(name), "data", "base", "5", "1259"))
				require.NoError(t, err)
				assert.Equal(t, content, got)
				assert.FileExists(t, filepath.Join(g.Path(name), "tablespaces", "16400", "x"))
			}
			entries, err := os.ReadDir(g.Path(name))
			require.NoError(t, err)
			assert.Len(t, entries, 4, "%s: beside the trees", what)
			assert.NoFileExists(t, g.Path("out"))
			assert.NoFileExists(t, g.Path("absolute"))
			require.NoError(t, os.RemoveAll(g.Path(name)))
		}
	}
}
