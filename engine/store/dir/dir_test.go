package dir

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"sort"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/store"
)

var ctx = context.Background()

func put(t *testing.T, s store.Store, key, content string) {
	w, err := s.Create(ctx, key)
	require.NoError(t, err)
	_, err = io.WriteString(w, content)
	require.NoError(t, err)
	require.NoError(t, w.Commit())
	w.Abort() // does nothing any more
}

func keys(t *testing.T, s store.Store, prefix string) []string {
	var list []string
	require.NoError(t, s.List(ctx, prefix, func(i store.Info) error { list = append(list, i.Key); return nil }))
	sort.Strings(list)
	return list
}

func open(t *testing.T) (*Store, string) {
	root := filepath.Join(t.TempDir(), "deep", "store")
	s, err := Open(root, -1)
	require.NoError(t, err)
	return s, root
}

func TestObjects(t *testing.T) {
	s, root := open(t)
	put(t, s, "a/b/one", "low tide")
	put(t, s, "a/two", "")
	put(t, s, "a/b/one", "high tide")
	assert.Equal(t, []string{"a/b/one", "a/two"}, keys(t, s, "a/"))
	assert.Equal(t, []string{"a/b/one"}, keys(t, s, "a/b/o"))
	assert.Empty(t, keys(t, s, "nothing/"))

	r, err := s.Open(ctx, "a/b/one", 5)
	require.NoError(t, err)
	content, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	assert.Equal(t, "tide", string(content))
	info, err := s.Stat(ctx, "a/b/one")
	require.NoError(t, err)
	assert.Equal(t, int64(9), info.Size)

	require.NoError(t, s.Delete(ctx, "a/b/one"))
	require.NoError(t, s.Delete(ctx, "a/b/one"), "once more is no error")
	assert.NoDirExists(t, filepath.Join(root, "a", "b"), "an empty directory goes with its last object")
	_, err = s.Open(ctx, "a/b/one", 0)
	assert.ErrorIs(t, err, store.ErrNotFound)
	_, err = s.Stat(ctx, "a/b/one")
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestWhatIsNotCommittedIsNotThere(t *testing.T) {
	s, root := open(t)
	w, err := s.Create(ctx, "a/b/one")
	require.NoError(t, err)
	_, err = io.WriteString(w, "low")
	require.NoError(t, err)
	assert.Empty(t, keys(t, s, "a/"))
	_, err = s.Stat(ctx, "a/b/one")
	assert.ErrorIs(t, err, store.ErrNotFound)
	w.Abort()

	_, err = s.Create(ctx, "a/b/two") // and its writer dies
	require.NoError(t, err)
	put(t, s, "a/three", "x")
	require.NoError(t, s.Sweep(ctx, "a/"))
	assert.NoDirExists(t, filepath.Join(root, "a", "b"))
	assert.Equal(t, []string{"a/three"}, keys(t, s, "a/"))
	require.NoError(t, s.Sweep(ctx, "nothing/"))

	n, err := store.DeleteAll(ctx, s, "a/")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Empty(t, keys(t, s, ""))
	_, err = store.DeleteAll(ctx, s, "a")
	assert.ErrorContains(t, err, "must end in a slash", "a prefix that other names share is never deleted")
}

func TestKeysStayInside(t *testing.T) {
	s, _ := open(t)
	for _, bad := range []string{"", "/a", "../a", "a/../b", "a//b", "a/", ".hidden", "a/.b", "a b", "a.unfinished"} {
		_, err := s.Create(ctx, bad)
		assert.ErrorContains(t, err, "is not a key", bad)
	}
}

func TestOpening(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := Open(file, -1)
	assert.ErrorContains(t, err, "is not a directory")
	_, err = OpenExisting(filepath.Join(t.TempDir(), "nothing"))
	assert.ErrorContains(t, err, "cannot be read")
}
