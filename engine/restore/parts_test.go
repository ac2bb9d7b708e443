package restore

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/engine/host"
)

// TestPartsOfAFile cuts files of every kind of length into parts, which are as long together as the file.
func TestPartsOfAFile(t *testing.T) {
	const whole = partExtents * layout.ExtentSize
	for size, parts := range map[int64]int{0: 1, 1: 1, whole - 1: 1, whole: 1, whole + 1: 2, 3 * whole: 3, 3*whole + layout.ExtentSize: 4} {
		l := newLaying(new(folder), "1", &layout.File{Size: size}, nil, nil)
		require.Len(t, l.parts, parts, size)
		assert.EqualValues(t, parts, l.left.Load())
		sum := int64(0)
		for i, p := range l.parts {
			assert.Equal(t, i*partExtents, p.first)
			assert.True(t, p.length > 0 || size == 0)
			sum += p.length
		}
		assert.Equal(t, size, sum)
	}
}

// TestMakingWay leaves what is of the right kind, with what is in it, and removes what is not.
func TestMakingWay(t *testing.T) {
	root := t.TempDir()
	h, err := host.Local("", "")
	require.NoError(t, err)
	tree, err := h.Files(root)
	require.NoError(t, err)
	trees := Trees{Files: tree, Data: "data"}
	kept := filepath.Join(root, "data", "base", "5", "1259")
	require.NoError(t, os.MkdirAll(filepath.Dir(kept), 0o755))
	require.NoError(t, os.WriteFile(kept, []byte("as it was"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(root, "data", "global"), nil, 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(root, "data", "PG_VERSION"), 0o755))
	n := make(names)
	for path, isDir := range map[string]bool{"data/base": true, "data/base/5": true, "data/base/5/1259": false, "data/global": true,
		"data/PG_VERSION": false, "data/nothing": true} {
		require.NoError(t, n.makeWay(trees, path, isDir), path)
		assert.True(t, n.has(path))
	}
	assert.FileExists(t, kept)
	assert.NoFileExists(t, filepath.Join(root, "data", "global"), "a file where a directory must be")
	assert.NoDirExists(t, filepath.Join(root, "data", "PG_VERSION"), "a directory where a file must be")
	require.ErrorIs(t, n.makeWay(trees, "data/base/5/1259", false), layout.ErrCorrupt)
	require.ErrorIs(t, n.makeWay(trees, "data/base/5", false), layout.ErrCorrupt)
	require.NoError(t, n.makeWay(trees, "data/base/5", true), "a directory may be named by what is in it, too")
}
