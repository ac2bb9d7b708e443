package vault_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"testing/iotest"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/vault"
)

// TestWhenAPackIsFull fills packs by their bytes, to just as many as one takes, and by their frames.
func TestWhenAPackIsFull(t *testing.T) {
	v, _ := newVault(t, false)
	add := func(w *vault.PackWriter, bytes int) {
		content := make([]byte, bytes)
		_, err := w.Add(layout.AppendFrame(nil, content, layout.Plain), layout.HashOf(content))
		require.NoError(t, err)
	}
	const most = 32 << 20
	w, err := v.CreatePack(ctx, "c", "b-000001")
	require.NoError(t, err)
	defer w.Abort()
	add(w, 1)
	for w.Size()+2*(layout.FrameHeader+layout.ExtentSize) < most {
		add(w, layout.ExtentSize)
		require.False(t, w.Full())
	}
	add(w, int(most-w.Size())-2*layout.FrameHeader-layout.ExtentSize-1)
	require.False(t, w.Full())
	add(w, int(most-w.Size())-layout.FrameHeader)
	require.EqualValues(t, most, w.Size())
	assert.True(t, w.Full(), "of bytes")

	w, err = v.CreatePack(ctx, "c", "b-000002")
	require.NoError(t, err)
	defer w.Abort()
	for n := range layout.MostFrames {
		require.False(t, w.Full(), n)
		add(w, 1)
	}
	assert.True(t, w.Full(), "of frames")
}

// TestFramesFarApart reads frames between which lies more than is read over.
func TestFramesFarApart(t *testing.T) {
	v, _ := newVault(t, true)
	contents := []string{"ebb"}
	for n := range 12 {
		noise := make([]byte, 100_000)
		source := rand.New(rand.NewPCG(1, uint64(n)))
		for i := range noise {
			noise[i] = byte(source.Uint32())
		}
		contents = append(contents, string(noise))
	}
	contents = append(contents, "flood")
	frames := writePack(t, v, "b-000001", contents)
	got, err := readPack(v.Packs("c"), "b-000001", []vault.Frame{frames[0], frames[3], frames[len(frames)-1]})
	require.NoError(t, err)
	assert.Equal(t, []string{"ebb", contents[3], "flood"}, got)
	end := frames[len(frames)-1].Offset + int64(frames[len(frames)-1].Length)
	_, err = readPack(v.Packs("c"), "b-000001", []vault.Frame{{Offset: end, Length: 40}})
	require.ErrorIs(t, err, layout.ErrCorrupt)
	assert.NotErrorIs(t, err, io.EOF, "the end is no frame")
}

// TestWhatCondensingFrees compares what a pack takes before and after, each time under a greater number.
func TestWhatCondensingFrees(t *testing.T) {
	v, _ := newVault(t, true)
	frames := writePack(t, v, "b-000001", []string{"ebb", strings.Repeat("The 07:40 to Heron Point. ", 300), "flood"})
	takes := func() (generation uint32, size int64) {
		packs := 0
		require.NoError(t, v.List(ctx, store.PackKey("c", "b-000001", 0), func(i store.Info) error {
			_, generation, _ = store.ParsePackKey("c", i.Key)
			size = i.Size
			packs++
			return nil
		}))
		require.Equal(t, 1, packs)
		return generation, size
	}
	for range 8 {
		was, before := takes()
		freed, err := v.Packs("c").Condense(ctx, "b-000001", []vault.Frame{frames[0], frames[2]})
		require.NoError(t, err)
		is, after := takes()
		assert.Greater(t, is, was)
		assert.Equal(t, before-after, freed)
	}
}

// counted counts what is opened and not closed again, and has every object end in an error after so many bytes.
type counted struct {
	store.Store
	open  *atomic.Int64
	fails int64 // 0: none does
}

type countedObject struct {
	io.Reader
	io.Closer
	open *atomic.Int64
}

func (c countedObject) Close() error { c.open.Add(-1); return c.Closer.Close() }

var errTorn = errors.New("the cable is torn")

func (c counted) Open(ctx context.Context, key string, offset int64) (io.ReadCloser, error) {
	r, err := c.Store.Open(ctx, key, offset)
	if err != nil {
		return nil, err
	}
	c.open.Add(1)
	object := countedObject{r, r, c.open}
	if c.fails > 0 && key != store.NameKey {
		object.Reader = io.MultiReader(io.LimitReader(r, max(c.fails-offset, 0)), iotest.ErrReader(errTorn))
	}
	return object, nil
}

// TestACableIsTorn reads objects whose store fails in their middle: the second store goes on there, and without one the error
// is no damage.
func TestACableIsTorn(t *testing.T) {
	healthy, root := newVault(t, true)
	content := bytes.Repeat([]byte("The 07:40 to Heron Point. "), 40_000)
	_, err := healthy.Put(ctx, "clusters/c/wal/x", layout.Plain, content)
	require.NoError(t, err)
	frames := writePack(t, healthy, "b-000001", []string{"ebb", "flood"})
	second, err := dir.Open(filepath.Join(t.TempDir(), "second"), -1)
	require.NoError(t, err)
	require.NoError(t, healthy.AddSecond(ctx, second))
	for _, k := range []string{"clusters/c/wal/x", store.PackKey("c", "b-000001", 0)} {
		require.NoError(t, healthy.Copy(ctx, k, healthy.First(), second))
	}
	first, err := dir.OpenExisting(root)
	require.NoError(t, err)
	var open atomic.Int64
	for _, fails := range []int64{0, 1, 70, 300_000, int64(len(content)) - 1} {
		alone := vault.Reading(counted{first, &open, fails}, nil, healthy.Ring())
		_, err := alone.Get(ctx, "clusters/c/wal/x")
		_, e := alone.Verify(ctx, alone.First(), "clusters/c/wal/x")
		if fails == 0 {
			require.NoError(t, errors.Join(err, e))
		} else {
			require.ErrorIs(t, err, errTorn)
			require.ErrorIs(t, e, errTorn)
			assert.NotErrorIs(t, err, layout.ErrCorrupt, "nothing is known to be damaged")
		}
		_, err = readPack(alone.Packs("c"), "b-000001", frames)
		if 0 < fails && fails < 100 {
			require.ErrorIs(t, err, errTorn)
			assert.NotErrorIs(t, err, layout.ErrCorrupt)
		}
		both := vault.Reading(counted{first, &open, fails}, second, healthy.Ring())
		fell := 0
		both.Fell = func(string, error) { fell++ }
		got, err := both.Get(ctx, "clusters/c/wal/x")
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, got))
		parts, err := readPack(both.Packs("c"), "b-000001", frames)
		require.NoError(t, err)
		assert.Equal(t, []string{"ebb", "flood"}, parts)
		assert.Equal(t, fails != 0, fell > 0, "only then is anything asked of the second store")
	}
	_, err = readPack(healthy.Packs("c"), "b-000009", frames)
	require.ErrorIs(t, err, store.ErrNotFound)
	assert.Zero(t, open.Load(), "whatever was opened is closed")
}

// TestEpochs takes one after the other; none twice.
func TestEpochs(t *testing.T) {
	v, _ := newVault(t, true)
	none, err := v.Epoch(ctx)
	require.NoError(t, err)
	assert.Zero(t, none.Number)
	for n := uint64(1); n < 4; n++ {
		require.NoError(t, v.TakeEpoch(ctx, vault.Epoch{Number: n, Mark: "ours"}))
		require.ErrorIs(t, v.TakeEpoch(ctx, vault.Epoch{Number: n, Mark: "theirs"}), vault.ErrTaken)
		newest, err := v.Epoch(ctx)
		require.NoError(t, err)
		assert.Equal(t, vault.Epoch{Number: n, Mark: "ours"}, newest)
		var keys []string
		require.NoError(t, v.List(ctx, store.EpochKey(""), func(i store.Info) error { keys = append(keys, i.Key); return nil }))
		assert.Len(t, keys, 1, "those before are forgotten")
	}
}

// TestARecordWithoutATag opens a store of before records had one: it gets it, and opens with any of its keys.
func TestARecordWithoutATag(t *testing.T) {
	root := t.TempDir()
	s, err := dir.Open(root, -1)
	require.NoError(t, err)
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	another := filepath.Join(t.TempDir(), "another")
	require.NoError(t, os.WriteFile(another, []byte(identity.String()+"\n"), 0o600))
	besides, err := vault.LoadKey(another)
	require.NoError(t, err)
	key := newKey(t)
	v, err := vault.Open(ctx, s, vault.Options{Key: newKey(t), Installation: "ours"})
	require.NoError(t, err)
	_, err = v.Rekey(ctx, key, []string{identity.Recipient().String()})
	require.NoError(t, err)
	file := filepath.Join(root, store.NameKey)
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	var record vault.StoreRecord
	require.NoError(t, json.Unmarshal(content, &record))
	require.NotEmpty(t, record.Tag)
	record.Tag, record.Sum = "", ""
	bare, err := json.MarshalIndent(record, "", "  ")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, bare, 0o600))
	require.NoError(t, os.Remove(filepath.Join(root, store.SpareKey)))
	for _, k := range []*vault.Key{besides, key} {
		v, err := vault.Open(ctx, s, vault.Options{Key: k, Installation: "ours"})
		require.NoError(t, err)
		require.NotNil(t, v)
		_, err = v.Put(ctx, "clusters/c/wal/x", layout.Plain, []byte("tide"))
		require.NoError(t, err)
	}
	content, err = os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(content, &record))
	assert.NotEmpty(t, record.Tag)
}

// TestWhatWasPutIsTold has a vault tell of each object that it has put, and of none that it could not.
func TestWhatWasPutIsTold(t *testing.T) {
	v, _ := newVault(t, true)
	var told []string
	v.Wrote = func(key string) { told = append(told, key) }
	key := store.RecordKey("01hzzzzzzzzzzzzzzzzzzzzzzz")
	_, err := v.Put(ctx, key, layout.S2, []byte("tide"))
	require.NoError(t, err)
	v.Guard = func(context.Context) error { return vault.ErrTaken }
	_, err = v.Put(ctx, key, layout.S2, []byte("ebb"))
	require.ErrorIs(t, err, vault.ErrTaken)
	assert.Equal(t, []string{key}, told)
}
