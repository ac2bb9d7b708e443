package vault

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
)

// TestMapsThatLackSheets refuses files whose maps cannot have as many extents as they say.
func TestMapsThatLackSheets(t *testing.T) {
	const sheet = layout.SheetExtents * layout.ExtentSize
	ref := layout.SheetRef{Pack: "b-s00001", Length: 100}
	for what, c := range map[string]struct {
		file  layout.File
		right bool
	}{
		"nothing, without a map":        {layout.File{}, true},
		"a byte, without a map":         {layout.File{Size: 1}, false},
		"a byte, with one in its line":  {layout.File{Size: 1, Sheet: []byte{1}}, true},
		"a sheet's bytes in its line":   {layout.File{Size: sheet, Sheet: []byte{1}}, true},
		"a byte more":                   {layout.File{Size: sheet + 1, Sheet: []byte{1}}, false},
		"two sheets for as many bytes":  {layout.File{Size: 2 * sheet, Sheets: []layout.SheetRef{ref, ref}}, true},
		"and a byte more":               {layout.File{Size: 2*sheet + 1, Sheets: []layout.SheetRef{ref, ref}}, false},
		"fewer bytes than there can be": {layout.File{Size: -1, Sheet: []byte{1}}, false},
	} {
		err := CheckSheets(&c.file)
		assert.Equal(t, c.right, err == nil, "%s: %v", what, err)
	}
	for _, n := range []int{0, 1} {
		_, err := ReadSheet(context.Background(), nil, &layout.File{Size: 1}, n, nil)
		require.ErrorIs(t, err, layout.ErrCorrupt)
		assert.ErrorContains(t, err, "lacks sheet")
	}
	_, err := ReadSheet(context.Background(), nil, &layout.File{Size: 1, Sheet: layout.AppendSheet(nil, make([]layout.Extent, 1))}, 1, nil)
	assert.ErrorContains(t, err, "lacks sheet")
}

// TestPlacesThatAreNotEmpty begins no store among files of others, but for a record that another instance writes just now.
func TestPlacesThatAreNotEmpty(t *testing.T) {
	ctx := context.Background()
	d, err := dir.Open(t.TempDir(), -1)
	require.NoError(t, err)
	put := func(key string) {
		w, err := d.Create(ctx, key)
		require.NoError(t, err)
		require.NoError(t, w.Commit())
	}
	require.NoError(t, mustBeEmpty(ctx, d))
	put(store.NameKey)
	put(store.SpareKey)
	require.NoError(t, mustBeEmpty(ctx, d))
	put("harvest.txt")
	require.ErrorContains(t, mustBeEmpty(ctx, d), "harvest.txt")
}
