package vault_test

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/vault"
)

// TestNoBitOfTheRecordGoesUnnoticed flips every bit of a store's record, on which all that it holds
// depends: the spare opens the store, and the record is written again from it.
func TestNoBitOfTheRecordGoesUnnoticed(t *testing.T) {
	root := t.TempDir()
	s, err := dir.Open(root, -1)
	require.NoError(t, err)
	key := newKey(t)
	v, err := vault.Open(ctx, s, vault.Options{Key: key, Installation: "ours"})
	require.NoError(t, err)
	_, err = v.Put(ctx, "clusters/c/wal/x", layout.S2, []byte("tide"))
	require.NoError(t, err)
	repaired, err := v.RepairRecords(ctx)
	require.NoError(t, err)
	require.Empty(t, repaired)
	path := filepath.Join(root, store.NameKey)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	for at := range whole {
		spoiled := bytes.Clone(whole)
		spoiled[at] ^= 1 << (at % 8)
		require.NoError(t, os.WriteFile(path, spoiled, 0o600))
		repaired, err := v.RepairRecords(ctx)
		require.NoError(t, err)
		require.Len(t, repaired, 1, "byte %d", at)
		require.Contains(t, repaired[0], "is damaged")
		again, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, whole, again)
	}
	for _, lose := range []string{store.NameKey, store.SpareKey} {
		require.NoError(t, os.Remove(filepath.Join(root, lose)))
		opened, err := vault.Open(ctx, s, vault.Options{Key: key, Installation: "ours"})
		require.NoError(t, err, "the other one opens the store")
		r, err := opened.Open(ctx, "clusters/c/wal/x")
		require.NoError(t, err)
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		assert.Equal(t, "tide", string(content))
		_, err = opened.RepairRecords(ctx)
		require.NoError(t, err)
		assert.FileExists(t, filepath.Join(root, lose))
	}
	for _, spoil := range []string{store.NameKey, store.SpareKey} {
		require.NoError(t, os.WriteFile(filepath.Join(root, spoil), whole[:len(whole)-1], 0o600))
	}
	_, err = vault.Open(ctx, s, vault.Options{Key: key, Installation: "ours"})
	assert.ErrorContains(t, err, "record is damaged")
	_, err = v.RepairRecords(ctx)
	assert.ErrorContains(t, err, "record is damaged")
}
