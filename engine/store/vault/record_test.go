package vault_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/vault"
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
	repaired, err = v.RepairRecords(ctx)
	require.NoError(t, err)
	assert.Len(t, repaired, 2, "who has the store open still knows it")
	_, err = vault.Open(ctx, s, vault.Options{Key: key, Installation: "ours"})
	require.NoError(t, err)
}

// TestForgedRecord puts other records in the place of a store's: one made by somebody who knows the
// public key alone, and one of before the key was changed.
func TestForgedRecord(t *testing.T) {
	root, elsewhere := t.TempDir(), t.TempDir()
	s, err := dir.Open(root, -1)
	require.NoError(t, err)
	key, next := newKey(t), newKey(t)
	opt := vault.Options{Key: key, Installation: "ours"}
	v, err := vault.Open(ctx, s, opt)
	require.NoError(t, err)
	known := func(v *vault.Vault) vault.Options {
		o := opt
		o.Fingerprint, o.Number = v.Ring().Fingerprint(), v.Ring().Current
		return o
	}
	record, spare := filepath.Join(root, store.NameKey), filepath.Join(root, store.SpareKey)
	first, err := os.ReadFile(record)
	require.NoError(t, err)

	// Another store for the same key, with this one's id: all that is needed is public.
	other, err := dir.Open(elsewhere, -1)
	require.NoError(t, err)
	_, err = vault.Open(ctx, other, opt)
	require.NoError(t, err)
	content, err := os.ReadFile(filepath.Join(elsewhere, store.NameKey))
	require.NoError(t, err)
	var r vault.StoreRecord
	require.NoError(t, json.Unmarshal(content, &r))
	r.ID, r.Rekeyed, r.Sum = v.Record().ID, time.Now().Add(time.Hour).UTC(), ""
	bare, err := json.MarshalIndent(r, "", "  ")
	require.NoError(t, err)
	sum := sha256.Sum256(bare)
	r.Sum = hex.EncodeToString(sum[:])
	forged, err := json.MarshalIndent(r, "", "  ")
	require.NoError(t, err)

	require.NoError(t, os.WriteFile(record, forged, 0o600))
	opened, err := vault.Open(ctx, s, known(v))
	require.NoError(t, err, "the spare is genuine")
	assert.Equal(t, v.Ring().Fingerprint(), opened.Ring().Fingerprint())
	repaired, err := v.RepairRecords(ctx)
	require.NoError(t, err)
	require.Len(t, repaired, 1)
	assert.Contains(t, repaired[0], "not written with this store's keys")
	again, err := os.ReadFile(record)
	require.NoError(t, err)
	assert.Equal(t, string(first), string(again))
	for _, path := range []string{record, spare} {
		require.NoError(t, os.WriteFile(path, forged, 0o600))
	}
	_, err = vault.Open(ctx, s, known(v))
	assert.ErrorContains(t, err, "somebody has replaced it")
	_, err = v.Rekey(ctx, next, nil)
	assert.Error(t, err, "nor is it taken over by who has the store open")
	_, err = v.RepairRecords(ctx)
	require.NoError(t, err)

	// The record of before a change, with the key of before.
	_, err = v.Rekey(ctx, next, nil)
	require.NoError(t, err)
	for _, path := range []string{record, spare} {
		require.NoError(t, os.WriteFile(path, first, 0o600))
	}
	_, err = vault.Open(ctx, s, known(v))
	assert.ErrorContains(t, err, "older than it was")
	repaired, err = v.RepairRecords(ctx)
	require.NoError(t, err)
	assert.Len(t, repaired, 2)
	_, err = vault.Open(ctx, s, known(v))
	assert.ErrorContains(t, err, "does not open the store", "the key of before opens it no more")

	// What is kept in a safe makes good what is lost.
	kept, err := v.KeyRecord()
	require.NoError(t, err)
	require.NoError(t, errors.Join(os.Remove(record), os.Remove(spare)))
	opt.Key = next
	_, err = v.Put(ctx, "clusters/c/wal/x", layout.S2, []byte("tide"))
	require.NoError(t, err)
	_, err = vault.Open(ctx, s, known(v))
	assert.ErrorContains(t, err, "is not empty")
	require.NoError(t, os.WriteFile(record, kept, 0o600))
	opened, err = vault.Open(ctx, s, known(v))
	require.NoError(t, err)
	content, err = opened.Get(ctx, "clusters/c/wal/x")
	require.NoError(t, err)
	assert.Equal(t, "tide", string(content))

	// An empty directory is where the store was: its disk is not mounted.
	empty, err := dir.Open(t.TempDir(), -1)
	require.NoError(t, err)
	_, err = vault.Open(ctx, empty, known(v))
	assert.ErrorContains(t, err, "see whether its disk is mounted")
}
