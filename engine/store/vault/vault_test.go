package vault_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"

	"filippo.io/age"
	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/s3"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
)

var ctx = context.Background()

// places are an empty directory store and an empty bucket.
func places(t *testing.T) map[string]func(string) store.Store {
	memory := s3mem.New()
	require.NoError(t, memory.CreateBucket("ferries"))
	server := httptest.NewServer(gofakes3.New(memory).Server())
	t.Cleanup(server.Close)
	root := t.TempDir()
	return map[string]func(string) store.Store{
		"directory": func(name string) store.Store {
			s, err := dir.Open(filepath.Join(root, name), -1)
			require.NoError(t, err)
			return s
		},
		"bucket": func(name string) store.Store {
			s, err := s3.Open(ctx, "s3://ferries/"+name+"?endpoint="+server.URL, s3.Keys{Access: "a", Secret: "b"})
			require.NoError(t, err)
			return s
		},
	}
}

func newKey(t *testing.T) *vault.Key {
	i, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(file, []byte("# ours\n"+i.String()+"\n"), 0o600))
	k, err := vault.LoadKey(file)
	require.NoError(t, err)
	return k
}

func TestManyInstancesBeginOneStore(t *testing.T) {
	for name, open := range places(t) {
		t.Run(name, func(t *testing.T) {
			key := newKey(t)
			var all sync.WaitGroup
			vaults := make([]*vault.Vault, 6)
			for i := range vaults {
				all.Go(func() {
					v, err := vault.Open(ctx, open("many"), vault.Options{Key: key, Installation: "ours"})
					assert.NoError(t, err)
					vaults[i] = v
				})
			}
			all.Wait()
			for i, v := range vaults {
				require.NotNil(t, v)
				_, err := v.Put(ctx, fmt.Sprintf("clusters/c/wal/%d", i), layout.Zstd, []byte("tide"))
				require.NoError(t, err)
			}
			for i := range vaults { // each reads what another wrote: they have one key
				got, err := vaults[(i+1)%len(vaults)].Get(ctx, fmt.Sprintf("clusters/c/wal/%d", i))
				require.NoError(t, err)
				assert.Equal(t, "tide", string(got))
			}
			_, err := vault.Open(ctx, open("many"), vault.Options{Key: key, Installation: "theirs"})
			assert.ErrorContains(t, err, "belongs to another installation")
			adopted, err := vault.Open(ctx, open("many"), vault.Options{Key: key, Installation: "theirs", Adopt: true})
			require.NoError(t, err)
			_, err = adopted.Get(ctx, "clusters/c/wal/0")
			require.NoError(t, err)
		})
	}
}

func TestARotationIsNoticedByOtherInstances(t *testing.T) {
	open := places(t)["directory"]
	old, next := newKey(t), newKey(t)
	one, err := vault.Open(ctx, open("s"), vault.Options{Key: old, Installation: "ours"})
	require.NoError(t, err)
	other, err := vault.Open(ctx, open("s"), vault.Options{Key: old, Installation: "ours"})
	require.NoError(t, err)
	stays := one.HashKey("c")
	n, err := one.Rekey(ctx, next, nil)
	require.NoError(t, err)
	assert.Equal(t, uint32(2), n)
	assert.Equal(t, stays, one.HashKey("c"), "what is unchanged is still recognised")
	_, err = one.Put(ctx, "clusters/c/wal/new", layout.Plain, []byte("tide"))
	require.NoError(t, err)
	_, err = other.Get(ctx, "clusters/c/wal/new")
	assert.ErrorContains(t, err, "restart with the new --store-key")
	_, err = vault.Open(ctx, open("s"), vault.Options{Key: old, Installation: "ours"})
	assert.ErrorContains(t, err, "does not open the store")
	_, err = other.Rekey(ctx, newKey(t), nil)
	assert.ErrorContains(t, err, "changed by another instance", "it would lose the key that the first has made")
	whole, err := vault.Open(ctx, open("s"), vault.Options{Key: next, Installation: "ours"})
	require.NoError(t, err)
	_, err = whole.Get(ctx, "clusters/c/wal/new")
	require.NoError(t, err)
}

func TestATicketOpensOneCluster(t *testing.T) {
	s := places(t)["directory"]("s")
	v, err := vault.Open(ctx, s, vault.Options{Key: newKey(t), Installation: "ours"})
	require.NoError(t, err)
	for _, c := range []string{"mine", "theirs"} {
		_, err := v.Put(ctx, "clusters/"+c+"/wal/x", layout.S2, []byte("the tides of "+c))
		require.NoError(t, err)
	}
	ticket := vault.Reading(s, nil, v.Ring().ForCluster("mine"))
	got, err := ticket.Get(ctx, "clusters/mine/wal/x")
	require.NoError(t, err)
	assert.Equal(t, "the tides of mine", string(got))
	_, err = ticket.Get(ctx, "clusters/theirs/wal/x")
	assert.Error(t, err)
}

// writePack writes a pack of made-up frames and says where they are.
func writePack(t *testing.T, v *vault.Vault, id string, contents []string) (frames []vault.Frame) {
	w, err := v.CreatePack(ctx, "c", id)
	require.NoError(t, err)
	for _, c := range contents {
		frame := layout.AppendFrame(nil, []byte(c), layout.Zstd)
		at, err := w.Add(frame, layout.HashOf([]byte(c)))
		require.NoError(t, err)
		frames = append(frames, vault.Frame{Offset: at, Length: len(frame)})
	}
	require.NoError(t, w.Close())
	require.NoError(t, w.Commit())
	return frames
}

func readPack(p *vault.Packs, id string, frames []vault.Frame) (contents []string, err error) {
	err = p.Read(ctx, id, frames, func(_ int, content []byte, _ layout.Hash) error {
		contents = append(contents, string(content))
		return nil
	})
	return contents, err
}

func TestPacksAreCondensedUnderTheirReaders(t *testing.T) {
	for name, open := range places(t) {
		for _, key := range []*vault.Key{nil, newKey(t)} {
			t.Run(fmt.Sprint(name, key != nil), func(t *testing.T) {
				v, err := vault.Open(ctx, open(fmt.Sprint("packs", key != nil)), vault.Options{Key: key, Installation: "ours"})
				require.NoError(t, err)
				var contents []string
				for i := range 40 {
					contents = append(contents, fmt.Sprintf("%d %s", i, bytes.Repeat([]byte("tide"), i*50)))
				}
				frames := writePack(t, v, "b-000001", contents)
				reader := v.Packs("c")
				got, err := readPack(reader, "b-000001", frames)
				require.NoError(t, err)
				require.Equal(t, contents, got)

				stay, want := frames[:0:0], contents[:0:0]
				for i := range frames {
					if i%3 == 1 {
						stay, want = append(stay, frames[i]), append(want, contents[i])
					}
				}
				for range 2 { // of the second generation too
					freed, err := v.Packs("c").Condense(ctx, "b-000001", stay)
					require.NoError(t, err)
					got, err = readPack(reader, "b-000001", stay)
					require.NoError(t, err, "whoever opened the pack before reads on")
					require.Equal(t, want, got)
					_, err = readPack(reader, "b-000001", frames[:1])
					assert.ErrorContains(t, err, "not in this generation")
					stay, want = stay[2:], want[2:]
					assert.Positive(t, freed)
				}
				_, err = readPack(v.Packs("c"), "b-000009", frames)
				assert.ErrorIs(t, err, store.ErrNotFound)
			})
		}
	}
}

// full takes everything but the last word.
type full struct {
	store.Store
	tried *[]string
}

type fullWriter struct{ store.Writer }

func (fullWriter) Commit() error { return store.ErrFull }

func (f full) Create(ctx context.Context, key string) (store.Writer, error) {
	*f.tried = append(*f.tried, key)
	w, err := f.Store.Create(ctx, key)
	return fullWriter{w}, err
}

// TestCondensingTriedAgain has the disk full each time that a pack is condensed, with other frames to stay:
// no two attempts seal under the same name, for they would use the same nonces.
func TestCondensingTriedAgain(t *testing.T) {
	s, err := dir.Open(t.TempDir(), -1)
	require.NoError(t, err)
	key := newKey(t)
	v, err := vault.Open(ctx, s, vault.Options{Key: key, Installation: "ours"})
	require.NoError(t, err)
	frames := writePack(t, v, "b-000001", []string{"ebb", "flood", "slack"})
	var tried []string
	cut := vault.Reading(full{s, &tried}, nil, v.Ring())
	for i := range frames {
		_, err := cut.Packs("c").Condense(ctx, "b-000001", frames[:i+1])
		require.ErrorIs(t, err, store.ErrFull)
	}
	require.Len(t, tried, 3)
	slices.Sort(tried)
	testbed.Attack(t, "full disk, condensing is tried again and seals other content with the same nonces", len(slices.Compact(tried)) < 3)
	got, err := readPack(v.Packs("c"), "b-000001", frames)
	require.NoError(t, err)
	assert.Equal(t, []string{"ebb", "flood", "slack"}, got)
}

// broken answers with wrong bytes, or not at all.
type broken struct {
	store.Store
	wrong func(key string, content []byte) ([]byte, error)
}

func (b broken) Open(ctx context.Context, key string, offset int64) (io.ReadCloser, error) {
	r, err := b.Store.Open(ctx, key, 0)
	if err != nil || key == store.NameKey {
		return r, err
	}
	content, err := io.ReadAll(r)
	if err == nil {
		content, err = b.wrong(key, content)
	}
	if err != nil {
		return nil, err
	}
	return io.NopCloser(bytes.NewReader(content[min(offset, int64(len(content))):])), nil
}

func TestWhatTheFirstStoreGetsWrongComesFromTheSecond(t *testing.T) {
	open := places(t)["directory"]
	key := newKey(t)
	content := bytes.Repeat([]byte("The 07:40 to Heron Point. "), 40_000)
	for name, wrong := range map[string]func(string, []byte) ([]byte, error){
		"refuses":         func(string, []byte) ([]byte, error) { return nil, errors.New("refused") },
		"lost":            func(key string, _ []byte) ([]byte, error) { return nil, fmt.Errorf("%s: %w", key, store.ErrNotFound) },
		"another body":    func(string, []byte) ([]byte, error) { return []byte("<html>Please sign in</html>"), nil },
		"empty body":      func(string, []byte) ([]byte, error) { return nil, nil },
		"cut":             func(_ string, c []byte) ([]byte, error) { return c[:len(c)*2/3], nil },
		"flipped":         func(_ string, c []byte) ([]byte, error) { c = bytes.Clone(c); c[len(c)/2] ^= 4; return c, nil },
		"flipped at end":  func(_ string, c []byte) ([]byte, error) { c = bytes.Clone(c); c[len(c)-1] ^= 1; return c, nil },
		"flipped at head": func(_ string, c []byte) ([]byte, error) { c = bytes.Clone(c); c[9] ^= 1; return c, nil },
	} {
		t.Run(name, func(t *testing.T) {
			first, second := open("first "+name), open("second "+name)
			v, err := vault.Open(ctx, first, vault.Options{Key: key, Installation: "ours"})
			require.NoError(t, err)
			_, err = v.Put(ctx, "clusters/c/wal/x", layout.Plain, content)
			require.NoError(t, err)
			frames := writePack(t, v, "b-000001", []string{"ebb", "flood"})
			require.NoError(t, v.AddSecond(ctx, second))
			for _, k := range []string{"clusters/c/wal/x", store.PackKey("c", "b-000001", 0)} {
				require.NoError(t, v.Copy(ctx, k, first, second))
			}
			bad, err := vault.Open(ctx, broken{first, wrong}, vault.Options{Key: key, Installation: "ours"})
			require.NoError(t, err)
			_, err = bad.Get(ctx, "clusters/c/wal/x")
			require.Error(t, err, "alone it is never handed over")
			require.NoError(t, bad.AddSecond(ctx, second))
			told := 0
			bad.Fell = func(string, error) { told++ }
			got, err := bad.Get(ctx, "clusters/c/wal/x")
			require.NoError(t, err)
			assert.True(t, bytes.Equal(content, got), "every byte, and none twice")
			parts, err := readPack(bad.Packs("c"), "b-000001", frames)
			require.NoError(t, err)
			assert.Equal(t, []string{"ebb", "flood"}, parts)
			assert.Positive(t, told)
			assert.Error(t, bad.Copy(ctx, "clusters/c/wal/x", bad.First(), second), "damage is not copied")
			got, err = v.Get(ctx, "clusters/c/wal/x")
			require.NoError(t, err)
			assert.Len(t, got, len(content), "and the second store keeps what it had")
		})
	}
}
