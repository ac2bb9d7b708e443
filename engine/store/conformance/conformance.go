// Package conformance is the test that every kind of store passes.
package conformance

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/store"
)

var ctx = context.Background()

// Put commits an object.
func Put(t *testing.T, s store.Store, key, content string) {
	w, err := s.Create(ctx, key)
	require.NoError(t, err)
	_, err = io.WriteString(w, content)
	require.NoError(t, err)
	require.NoError(t, w.Commit())
	w.Abort() // does nothing any more
}

// Keys lists the keys with a prefix, sorted.
func Keys(t *testing.T, s store.Store, prefix string) []string {
	var list []string
	require.NoError(t, s.List(ctx, prefix, func(i store.Info) error { list = append(list, i.Key); return nil }))
	sort.Strings(list)
	return list
}

func get(t *testing.T, s store.Store, key string, offset int64) string {
	r, err := s.Open(ctx, key, offset)
	require.NoError(t, err)
	content, err := io.ReadAll(r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	return string(content)
}

// Run tests a store that is empty when it is opened.
func Run(t *testing.T, s store.Store) {
	t.Run("objects", func(t *testing.T) { objects(t, s) })
	t.Run("what is not committed is not there", func(t *testing.T) { uncommitted(t, s) })
	t.Run("keys stay inside", func(t *testing.T) { badKeys(t, s) })
	t.Run("against a model", func(t *testing.T) { model(t, s) })
}

func objects(t *testing.T, s store.Store) {
	Put(t, s, "a/b/one", "low tide")
	Put(t, s, "a/two", "")
	Put(t, s, "a/b/one", "high tide")
	assert.Equal(t, []string{"a/b/one", "a/two"}, Keys(t, s, "a/"))
	assert.Equal(t, []string{"a/b/one"}, Keys(t, s, "a/b/o"))
	assert.Empty(t, Keys(t, s, "nothing/"))
	assert.Equal(t, "tide", get(t, s, "a/b/one", 5))
	assert.Equal(t, "", get(t, s, "a/two", 0))
	info, err := s.Stat(ctx, "a/b/one")
	require.NoError(t, err)
	assert.Equal(t, store.Info{Key: "a/b/one", Size: 9}, info)
	assert.ErrorIs(t, s.List(ctx, "", func(store.Info) error { return io.ErrNoProgress }), io.ErrNoProgress)

	require.NoError(t, s.Delete(ctx, "a/b/one"))
	require.NoError(t, s.Delete(ctx, "a/b/one"), "once more is no error")
	_, err = s.Open(ctx, "a/b/one", 0)
	assert.ErrorIs(t, err, store.ErrNotFound)
	_, err = s.Stat(ctx, "a/b/one")
	assert.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.PutNew(ctx, "a/new", []byte("ebb")))
	assert.ErrorIs(t, s.PutNew(ctx, "a/new", []byte("flood")), store.ErrExists)
	assert.Equal(t, "ebb", get(t, s, "a/new", 0), "what was there first stays")
	require.NoError(t, s.Delete(ctx, "a/new"))
	n, err := store.DeleteAll(ctx, s, "a/")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Empty(t, Keys(t, s, ""))
	_, err = store.DeleteAll(ctx, s, "a")
	assert.ErrorContains(t, err, "must end in a slash", "a prefix that other names share is never deleted")
}

func uncommitted(t *testing.T, s store.Store) {
	w, err := s.Create(ctx, "a/b/one")
	require.NoError(t, err)
	_, err = io.WriteString(w, strings.Repeat("low", 9<<20)) // more than one part of an upload
	require.NoError(t, err)
	assert.Empty(t, Keys(t, s, "a/"))
	_, err = s.Stat(ctx, "a/b/one")
	assert.ErrorIs(t, err, store.ErrNotFound)
	w.Abort()
	Put(t, s, "a/three", "x")
	require.NoError(t, s.Sweep(ctx, "a/"))
	assert.Equal(t, []string{"a/three"}, Keys(t, s, "a/"))
	require.NoError(t, s.Sweep(ctx, "nothing/"))
	require.NoError(t, s.Delete(ctx, "a/three"))
}

func badKeys(t *testing.T, s store.Store) {
	for _, bad := range []string{"", "/a", "../a", "a/../b", "a//b", "a/", ".hidden", "a/.b", "a b"} {
		_, err := s.Create(ctx, bad)
		assert.ErrorContains(t, err, "is not a key", bad)
		_, err = s.Open(ctx, bad, 0)
		assert.ErrorContains(t, err, "is not a key", bad)
		assert.ErrorContains(t, s.Delete(ctx, bad), "is not a key", bad)
	}
}

// model puts, deletes and reads at random, and compares with a map.
func model(t *testing.T, s store.Store) {
	random := rand.New(rand.NewPCG(1, 2))
	held := make(map[string]string)
	for range 150 {
		key := fmt.Sprintf("m/%d/%d", random.IntN(3), random.IntN(4))
		switch random.IntN(4) {
		case 0:
			require.NoError(t, s.Delete(ctx, key))
			delete(held, key)
		case 1:
			want, there := held[key]
			if !there {
				_, err := s.Open(ctx, key, 0)
				require.ErrorIs(t, err, store.ErrNotFound)
				continue
			}
			at := random.IntN(len(want) + 1)
			require.Equal(t, want[at:], get(t, s, key, int64(at)))
		default:
			content := strings.Repeat(key, random.IntN(400))
			Put(t, s, key, content)
			held[key] = content
		}
	}
	want := make([]string, 0, len(held))
	for key := range held {
		want = append(want, key)
	}
	sort.Strings(want)
	assert.Equal(t, want, append([]string{}, Keys(t, s, "m/")...))
	_, err := store.DeleteAll(ctx, s, "m/")
	require.NoError(t, err)
}
