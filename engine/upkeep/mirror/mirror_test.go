package mirror_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/task"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/vault"
	"velvetrewind/engine/upkeep/mirror"
)

// pair is a store with what there may be of a cluster, and an empty second one.
type pair struct {
	*testing.T
	*vault.Vault
	root   string
	gone   []string         // backups that were dropped
	opened func(key string) // is called when an object of the first store was opened
}

// watched is a store that tells what is opened in it.
type watched struct {
	store.Store
	opened func(key string)
}

func (w watched) Open(ctx context.Context, key string, offset int64) (io.ReadCloser, error) {
	r, err := w.Store.Open(ctx, key, offset)
	w.opened(key)
	return r, err
}

const record, segment, index = "clusters/c/record", "clusters/c/wal/00000001/000000010000000000000001",
	"clusters/c/journal/00000001/000000010000000000000001"

// newPair makes a store with two backups, the newer of which shares the older one's pack.
func newPair(t *testing.T) *pair {
	p := &pair{T: t, root: t.TempDir(), opened: func(string) {}}
	open := func(name string) store.Store {
		s, err := dir.Open(filepath.Join(p.root, name), -1)
		require.NoError(t, err)
		return s
	}
	var err error
	p.Vault, err = vault.Open(t.Context(), watched{open("first"), func(key string) { p.opened(key) }}, vault.Options{Installation: "ours"})
	require.NoError(t, err)
	require.NoError(t, p.AddSecond(t.Context(), open("second")))
	for _, key := range []string{record, segment, index} {
		p.put(key, "low tide of "+key)
	}
	p.pack("a-000001")
	p.pack("b-000001")
	p.manifest("a", "a-000001")
	p.manifest("b", "a-000001", "b-000001")
	return p
}

func (p *pair) put(key, content string) {
	_, err := p.Put(p.Context(), key, layout.Plain, []byte(content))
	require.NoError(p, err)
}

func (p *pair) pack(id string) (whole vault.Frame) {
	w, err := p.CreatePack(p.Context(), "c", id)
	require.NoError(p, err)
	content := []byte("high tide of " + id)
	frame := layout.AppendFrame(nil, content, layout.Plain)
	at, err := w.Add(frame, layout.HashOf(content))
	require.NoError(p, err)
	require.NoError(p, w.Close())
	require.NoError(p, w.Commit())
	return vault.Frame{Offset: at, Length: len(frame)}
}

func (p *pair) manifest(backup string, packs ...string) {
	out, err := p.Create(p.Context(), store.ManifestKey("c", backup), layout.Plain)
	require.NoError(p, err)
	w, err := layout.NewManifestWriter(out, layout.Head{Backup: backup})
	require.NoError(p, err)
	var uses []layout.Use
	for _, id := range packs {
		uses = append(uses, layout.Use{Pack: id, Frames: 1})
	}
	require.NoError(p, w.Finish(uses, layout.Tail{}))
	require.NoError(p, out.Commit())
}

// copy copies, and lists what the second store has then.
func (p *pair) copy() (mirror.Result, []string) {
	stands := func(id string) (bool, error) { return !slices.Contains(p.gone, id), nil }
	r, err := mirror.Run(p.Context(), p.Vault, "c", stands, task.Silent)
	require.NoError(p, err)
	var keys []string
	require.NoError(p, p.Second().List(p.Context(), "clusters/", func(i store.Info) error { keys = append(keys, i.Key); return nil }))
	slices.Sort(keys)
	return r, keys
}

func (p *pair) path(key string) string {
	return filepath.Join(p.root, "first", filepath.FromSlash(key))
}

func keysOf(packs, backups []string) []string {
	keys := []string{record, segment, index}
	for _, id := range packs {
		keys = append(keys, store.PackKey("c", id, 0))
	}
	for _, id := range backups {
		keys = append(keys, store.ManifestKey("c", id))
	}
	slices.Sort(keys)
	return keys
}

// TestWhatIsCopied looks at a second store after what may happen before and while it is
// filled.
func TestWhatIsCopied(t *testing.T) {
	both := []string{"a-000001", "b-000001"}
	t.Run("all there is, once", func(t *testing.T) {
		p := newPair(t)
		r, keys := p.copy()
		assert.Equal(t, keysOf(both, []string{"a", "b"}), keys)
		assert.EqualValues(t, len(keys), r.Objects)
		r, _ = p.copy()
		assert.Zero(t, r.Objects)
	})
	t.Run("a record that is as long as before", func(t *testing.T) {
		p := newPair(t)
		p.copy()
		p.put(record, "ebb tide of "+record)
		p.put(record, "LOW tide of "+record)
		r, _ := p.copy()
		assert.EqualValues(t, 1, r.Objects)
		require.NoError(t, os.Remove(p.path(record)))
		got, err := p.Get(t.Context(), record)
		require.NoError(t, err)
		assert.Equal(t, "LOW tide of "+record, string(got))
		r, keys := p.copy()
		assert.Zero(t, r.Objects, "what the first store lost stays in the second")
		assert.Contains(t, keys, record)
	})
	t.Run("no backup without its packs", func(t *testing.T) {
		p := newPair(t)
		path := p.path(store.PackKey("c", "b-000001", 0))
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		bad := slices.Clone(content)
		bad[len(bad)/2] ^= 2
		require.NoError(t, os.WriteFile(path, bad, 0o600))
		r, keys := p.copy()
		assert.EqualValues(t, 1, r.Damaged)
		assert.Equal(t, keysOf([]string{"a-000001"}, []string{"a"}), keys)
		require.NoError(t, os.WriteFile(path, content, 0o600))
		r, keys = p.copy()
		assert.EqualValues(t, 2, r.Objects)
		assert.Equal(t, keysOf(both, []string{"a", "b"}), keys)
	})
	t.Run("a pack that is condensed while it is to be copied", func(t *testing.T) {
		p := newPair(t)
		frame := p.pack("a-000001")
		p.opened = func(key string) {
			if key == segment || key == index { // before the packs: journal, packs, wal, by their names
				p.opened = func(string) {}
				_, err := p.Packs("c").Condense(t.Context(), "a-000001", []vault.Frame{frame})
				require.NoError(t, err)
			}
		}
		_, keys := p.copy()
		assert.Equal(t, keysOf([]string{"b-000001"}, nil), keys)
		_, keys = p.copy()
		assert.True(t, slices.ContainsFunc(keys, func(key string) bool {
			return strings.HasPrefix(key,
				store.PackKey("c", "a-000001", 0)+".")
		}))
		assert.Subset(t, keys, []string{store.ManifestKey("c", "a"), store.ManifestKey("c", "b")})
		p.opened = func(key string) { assert.NotContains(t, key, "packs/") }
		p.copy()
	})
	t.Run("what is deleted while it is copied", func(t *testing.T) {
		p := newPair(t)
		p.opened = func(key string) {
			if key == segment {
				require.NoError(t, p.Delete(t.Context(), segment))
			}
			if key == store.ManifestKey("c", "b") { // looked into, then copied
				p.gone = []string{"b"}
			}
		}
		_, keys := p.copy()
		assert.NotContains(t, keys, segment)
		assert.NotContains(t, keys, store.ManifestKey("c", "b"))
		assert.Contains(t, keys, store.ManifestKey("c", "a"))
	})
}
