package layout

import (
	"bytes"
	"errors"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// object makes an object of content.
func object(t require.TestingT, content []byte, codec Codec) []byte {
	var out bytes.Buffer
	s := NewStream(&out, codec)
	_, err := s.Write(content)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	return out.Bytes()
}

func read(b []byte) ([]byte, error) {
	r, err := OpenObject(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

var codecs = []Codec{Plain, S2, Zstd}

// drawContent draws content that compresses in parts, around the borders of frames.
func drawContent(t *rapid.T) []byte {
	part := rapid.SliceOfN(rapid.Byte(), 1, 300).Draw(t, "part")
	n := rapid.OneOf(rapid.IntRange(0, 1000), rapid.IntRange(FrameSize-2, FrameSize+2), rapid.IntRange(2*FrameSize, 3*FrameSize)).Draw(t, "length")
	return bytes.Repeat(part, n/len(part)+1)[:n]
}

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		content, codec := drawContent(t), rapid.SampledFrom(codecs).Draw(t, "codec")
		got, err := read(object(t, content, codec))
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, got))
	})
}

func TestDamageIsAlwaysNoticed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		content, codec := drawContent(t), rapid.SampledFrom(codecs).Draw(t, "codec")
		b := object(t, content, codec)
		at := rapid.IntRange(0, len(b)-1).Draw(t, "byte")
		if rapid.Bool().Draw(t, "cut") {
			b = b[:at]
		} else {
			b[at] ^= byte(1 << rapid.IntRange(0, 7).Draw(t, "bit"))
		}
		_, err := read(b)
		if at > 8 && err == nil { // the three bytes of padding in a header are hashed too
			t.Fatalf("damage at %d of %d was not noticed", at, len(b))
		}
		require.ErrorIs(t, err, ErrCorrupt)
	})
}

func TestAFrameLeftOutIsNoticed(t *testing.T) {
	first, second := AppendFrame(nil, []byte("low"), S2), AppendFrame(nil, []byte("tide"), S2)
	var out bytes.Buffer
	w := NewObjectWriter(&out)
	_, err := w.WriteFrame(first, 3)
	require.NoError(t, err)
	at, err := w.WriteFrame(second, 4)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	whole := out.Bytes()

	without := append(bytes.Clone(whole[:at]), whole[at+int64(len(second)):]...)
	_, err = read(without)
	assert.ErrorIs(t, err, ErrCorrupt)

	inside := NewFrameReader(bytes.NewReader(whole[at:]))
	content, err := inside.Next()
	require.NoError(t, err)
	assert.Equal(t, "tide", string(content))
	_, err = inside.Next()
	assert.ErrorIs(t, err, io.EOF, "read from the inside, only frames are verified")
}

func TestCodecNames(t *testing.T) {
	for name, want := range map[string]Codec{"s2": S2, "zstd": Zstd} {
		got, err := ParseCodec(name)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := ParseCodec("brotli")
	assert.ErrorContains(t, err, "choose zstd")
}

func writeManifest(t *testing.T, finish bool) []byte {
	var out bytes.Buffer
	w, err := NewManifestWriter(&out, Head{Backup: "b", Cluster: "c", SystemID: 1 << 63, Tablespaces: []TablespaceEntry{{16400, "/ledger"}}})
	require.NoError(t, err)
	require.NoError(t, w.Add(File{Path: "base/5/1259", Size: 8192, CRC32C: 7, Pack: 1, Offset: 8, Modified: time.Unix(0, 0).UTC()}))
	require.NoError(t, w.Add(File{Place: InConfig, Path: "files/etc/postgresql.conf"}))
	if finish {
		require.NoError(t, w.Finish(Tail{Start: 0x10, Stop: 0x20, Files: 2}))
	}
	return out.Bytes()
}

func TestManifest(t *testing.T) {
	var head Head
	var files []File
	each := func(f File) error { files = append(files, f); return nil }
	tail, err := ReadManifest(bytes.NewReader(writeManifest(t, true)), func(h Head) error { head = h; return nil }, each)
	require.NoError(t, err)
	assert.Equal(t, uint64(1<<63), head.SystemID, "64 bits survive JSON")
	assert.Equal(t, int64(2), tail.Files)
	require.Len(t, files, 2)
	assert.Equal(t, int64(8), files[0].Offset)
	assert.Equal(t, InConfig, files[1].Place)

	none := func(Head) error { return nil }
	_, err = ReadManifest(bytes.NewReader(writeManifest(t, false)), none, each)
	assert.ErrorIs(t, err, ErrCorrupt, "without a tail it is no manifest")
	_, err = ReadManifest(bytes.NewReader(object(t, []byte(`{"head":{"format":"velvet-manifest/9"}}`), S2)), none, each)
	assert.ErrorContains(t, err, "newer velvet")
	_, err = ReadManifest(bytes.NewReader(object(t, []byte(`{"file":{"path":"x"}}`), S2)), none, each)
	assert.ErrorContains(t, err, "out of order")
	stop := errors.New("stop")
	_, err = ReadManifest(bytes.NewReader(writeManifest(t, true)), none, func(File) error { return stop })
	assert.ErrorIs(t, err, stop)
}

// FuzzOpenObject reads any bytes as an object: it must not panic, nor allocate
// more than a frame at a time.
func FuzzOpenObject(f *testing.F) {
	for _, c := range codecs {
		var out bytes.Buffer
		s := NewStream(&out, c)
		_, _ = s.Write(bytes.Repeat([]byte("tide"), 100))
		_ = s.Close()
		f.Add(out.Bytes())
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := OpenObject(bytes.NewReader(b))
		if err != nil {
			return
		}
		_, _ = io.Copy(io.Discard, r)
	})
}
