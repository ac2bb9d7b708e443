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
	"velvetrewind/engine/store/vault"
)

// newVault is a store in a directory, encrypted or not.
func newVault(t *testing.T, encrypted bool) (*vault.Vault, string) {
	root := t.TempDir()
	s, err := dir.Open(root, -1)
	require.NoError(t, err)
	opt := vault.Options{Installation: "ours"}
	if encrypted {
		opt.Key = newKey(t)
	}
	v, err := vault.Open(ctx, s, opt)
	require.NoError(t, err)
	return v, root
}

// readThrough reads an object as a restore does.
func readThrough(v *vault.Vault, key string) ([]byte, error) {
	r, err := v.Open(ctx, key)
	if err != nil {
		return nil, err
	}
	defer func() { _ = r.Close() }()
	return io.ReadAll(r)
}

// TestObjectsThatAreNotOurs puts something else in the place of an object: what another store, another cluster or
// another key's object holds, the same in the clear, less of it or more. None of it is read as if it were right.
func TestObjectsThatAreNotOurs(t *testing.T) {
	const key, cluster = "clusters/c/wal/00000001/a", "c"
	content := bytes.Repeat([]byte("The 07:40 to Heron Point. "), 12_000) // several frames
	put := func(v *vault.Vault, key string, content []byte) {
		_, err := v.Put(ctx, key, layout.S2, content)
		require.NoError(t, err)
	}
	for _, encrypted := range []bool{false, true} {
		v, root := newVault(t, encrypted)
		put(v, key, content)
		path := filepath.Join(root, filepath.FromSlash(key))
		genuine, err := os.ReadFile(path)
		require.NoError(t, err)
		raw := func(v *vault.Vault, root, key string, content []byte) []byte {
			put(v, key, content)
			b, err := os.ReadFile(filepath.Join(root, filepath.FromSlash(key)))
			require.NoError(t, err)
			return b
		}
		other, otherRoot := newVault(t, true)
		plain, plainRoot := newVault(t, false)
		foreign := map[string][]byte{
			"of another encrypted store": raw(other, otherRoot, key, content),
			"nothing":                    {},
			"a page of a provider":       []byte("<html>Please sign in</html>"),
		}
		if encrypted {
			foreign["in the clear"] = raw(plain, plainRoot, key, content)
			foreign["of another key of the cluster"] = raw(v, root, "clusters/c/wal/00000001/b", content)
			foreign["of another cluster"] = raw(v, root, "clusters/d/wal/00000001/a", content)
		}
		for n := range 40 { // cut anywhere
			foreign["cut "+string(rune('a'+n))] = genuine[:len(genuine)*n/40]
		}
		foreign["without its end"] = genuine[:len(genuine)-layout.FrameHeader]
		for what, b := range foreign {
			require.NoError(t, os.WriteFile(path, b, 0o640))
			_, err := readThrough(v, key)
			assert.Error(t, err, "%s, encrypted %t", what, encrypted)
			_, err = v.Verify(ctx, v.First(), key)
			assert.Error(t, err, "%s, encrypted %t: verified", what, encrypted)
		}
		require.NoError(t, os.WriteFile(path, append(bytes.Clone(genuine), 0), 0o640))
		_, err = v.Verify(ctx, v.First(), key)
		assert.ErrorIs(t, err, layout.ErrCorrupt, "a byte after its end")
		second, err := dir.Open(t.TempDir(), -1)
		require.NoError(t, err)
		assert.ErrorIs(t, v.Copy(ctx, key, v.First(), second), layout.ErrCorrupt)
		_, err = second.Stat(ctx, key)
		assert.ErrorIs(t, err, store.ErrNotFound, "what is damaged is not copied")
		require.NoError(t, os.WriteFile(path, genuine, 0o640))
		got, err := readThrough(v, key)
		require.NoError(t, err)
		assert.Equal(t, content, got)
		size, err := v.Verify(ctx, v.First(), key)
		require.NoError(t, err)
		assert.EqualValues(t, len(genuine), size)
	}
}

// TestTheSecondStoreKeepsUp condenses a pack, deletes and adds: the second store alone has what the first has.
func TestTheSecondStoreKeepsUp(t *testing.T) {
	v, _ := newVault(t, true)
	elsewhere, _ := newVault(t, true)
	err := v.AddSecond(ctx, elsewhere.First())
	assert.ErrorContains(t, err, "belongs to another store")
	assert.Nil(t, v.Second())
	assert.ErrorContains(t, v.AddSecond(ctx, v.First()), "is the first one")
	strange := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(strange, "letters"), nil, 0o600))
	s, err := dir.Open(strange, -1)
	require.NoError(t, err)
	assert.ErrorContains(t, v.AddSecond(ctx, s), "not empty")

	second, err := dir.Open(t.TempDir(), -1)
	require.NoError(t, err)
	require.NoError(t, v.AddSecond(ctx, second))
	require.NoError(t, v.AddSecond(ctx, second), "again, as at every start")
	contents := []string{"ebb", "flood", "slack"}
	frames := writePack(t, v, "b-000001", contents)
	first := store.PackKey("c", "b-000001", 0)
	require.NoError(t, v.Copy(ctx, first, v.First(), second))
	stay, want := frames[1:], contents[1:]
	_, err = v.Packs("c").Condense(ctx, "b-000001", stay)
	require.NoError(t, err)
	for _, where := range []store.Store{v.First(), second} {
		_, err = where.Stat(ctx, first)
		assert.ErrorIs(t, err, store.ErrNotFound, "the generation before is gone")
		got, err := readPack(vault.Reading(where, nil, v.Ring()).Packs("c"), "b-000001", stay)
		require.NoError(t, err, "either store has it whole")
		assert.Equal(t, want, got)
	}
	// One that the second store does not have yet is not put there by condensing it.
	frames = writePack(t, v, "b-000002", contents)
	_, err = v.Packs("c").Condense(ctx, "b-000002", frames[:1])
	require.NoError(t, err)
	require.NoError(t, second.List(ctx, "clusters/c/packs/", func(i store.Info) error {
		assert.NotContains(t, i.Key, "b-000002")
		return nil
	}))
}
