package layout

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
	"pgregory.net/rapid"
)

// sealing is a header and its seal: none, or that of a made-up key.
type sealing struct {
	header Header
	seal   *Seal
}

var open = sealing{}

func locked(salt byte) sealing {
	h := Header{Key: 7, Salt: [16]byte{salt, 1}}
	return sealing{h, NewSeal([32]byte{1, 2, 3}, h.Salt, "clusters/ferries/wal/x")}
}

// object makes an object of content.
func object(t require.TestingT, k sealing, content []byte, codec Codec) []byte {
	var out bytes.Buffer
	s := NewStream(&out, k.header, k.seal, codec)
	_, err := s.Write(content)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	require.Equal(t, int64(out.Len()), s.Size())
	return out.Bytes()
}

func read(k sealing, b []byte) (content []byte, err error) {
	src := bytes.NewReader(b)
	h, err := ReadHeader(src)
	if err != nil {
		return nil, err
	}
	if h != k.header {
		return nil, fmt.Errorf("%w: another header", ErrCorrupt)
	}
	for r := NewObjectReader(src, h, k.seal); ; {
		part, err := r.Next()
		if err == io.EOF {
			return content, nil
		}
		if err != nil {
			return nil, err
		}
		content = append(content, part...)
	}
}

var codecs = []Codec{Plain, S2, Zstd}

func drawSealing(t *rapid.T) sealing {
	return rapid.SampledFrom([]sealing{open, locked(1)}).Draw(t, "sealing")
}

// drawContent draws content that compresses in parts, around the borders of frames.
func drawContent(t *rapid.T) []byte {
	part := rapid.SliceOfN(rapid.Byte(), 1, 300).Draw(t, "part")
	n := rapid.OneOf(rapid.IntRange(0, 1000), rapid.IntRange(ExtentSize-2, ExtentSize+2),
		rapid.IntRange(2*ExtentSize, 3*ExtentSize)).Draw(t, "length")
	return bytes.Repeat(part, n/len(part)+1)[:n]
}

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		content, codec, k := drawContent(t), rapid.SampledFrom(codecs).Draw(t, "codec"), drawSealing(t)
		got, err := read(k, object(t, k, content, codec))
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, got))
	})
}

func TestDamageIsAlwaysNoticed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		content, codec, k := drawContent(t), rapid.SampledFrom(codecs).Draw(t, "codec"), drawSealing(t)
		b := object(t, k, content, codec)
		at := rapid.IntRange(0, len(b)-1).Draw(t, "byte")
		if rapid.Bool().Draw(t, "cut") {
			b = b[:at]
		} else {
			b[at] ^= byte(1 << rapid.IntRange(0, 7).Draw(t, "bit"))
		}
		_, err := read(k, b)
		require.ErrorIs(t, err, ErrCorrupt, "damage at %d of %d", at, len(b))
	})
}

// A hasher is used again and again: what it hashed before must not matter.
func TestHashers(t *testing.T) {
	key := [32]byte{7}
	keyed, plain := NewHasher(&key), NewHasher(nil)
	seen := make(map[Hash]bool)
	for _, content := range []string{"ebb", "flow", "ebb"} {
		reference, err := blake3.NewKeyed(key[:])
		require.NoError(t, err)
		_, _ = reference.WriteString(content)
		assert.Equal(t, Hash(reference.Sum(nil)[:16]), keyed.Of([]byte(content)))
		assert.Equal(t, HashOf([]byte(content)), plain.Of([]byte(content)))
		seen[keyed.Of([]byte(content))], seen[HashOf([]byte(content))] = true, true
	}
	assert.Len(t, seen, 4)
}

func TestASealedObjectOpensOnlyWithItsKeyAndPlace(t *testing.T) {
	content := bytes.Repeat([]byte("the season's bookings "), 20000)
	k := locked(1)
	b := object(t, k, content, Zstd)
	assert.False(t, bytes.Contains(object(t, k, content, Plain), []byte("bookings")), "nothing is in the clear")
	for name, wrong := range map[string]*Seal{
		"another key":  NewSeal([32]byte{9}, k.header.Salt, "clusters/ferries/wal/x"),
		"another name": NewSeal([32]byte{1, 2, 3}, k.header.Salt, "clusters/ferries/wal/y"),
		"another salt": NewSeal([32]byte{1, 2, 3}, [16]byte{5}, "clusters/ferries/wal/x"),
		"none":         nil,
	} {
		_, err := read(sealing{k.header, wrong}, b)
		assert.ErrorIs(t, err, ErrCorrupt, name)
	}
	r := NewFrameReader(bytes.NewReader(b[HeaderSize:]), k.seal, HeaderSize+1)
	_, err := r.Next()
	assert.ErrorIs(t, err, ErrCorrupt, "a frame opens only at its own place")
}

// pack makes a pack of frames and says where each is.
func pack(t *testing.T, k sealing, contents ...string) ([]byte, []Moved) {
	var out bytes.Buffer
	w := NewObjectWriter(&out, k.header, k.seal)
	var list []Moved
	for _, c := range contents {
		frame := AppendFrame(nil, []byte(c), S2)
		at, err := w.WriteFrame(frame, HashOf([]byte(c)))
		require.NoError(t, err)
		list = append(list, Moved{at, len(frame)})
	}
	require.NoError(t, w.Close())
	return out.Bytes(), list
}

func TestCondensedPacks(t *testing.T) {
	for _, k := range []sealing{open, locked(3)} {
		whole, frames := pack(t, k, "low", "tide", "ebb", "flood")
		stay := []Moved{frames[1], frames[3]}
		for generation := uint32(1); generation <= 2; generation++ {
			var out bytes.Buffer
			h := k.header
			h.Generation = generation
			c, err := NewCondenser(&out, h, k.seal, stay)
			require.NoError(t, err)
			for _, m := range stay {
				require.NoError(t, c.Add(bytes.Clone(whole[m.Origin:m.Origin+int64(m.Length)])))
			}
			require.ErrorIs(t, c.Add(whole[frames[0].Origin:][:frames[0].Length]), ErrCorrupt, "more than the table says")
			require.NoError(t, c.Close())
			got, err := read(sealing{h, k.seal}, out.Bytes())
			require.NoError(t, err)
			assert.Equal(t, "tideflood", string(got))

			src := bytes.NewReader(out.Bytes()[HeaderSize:])
			list, first, err := Table(src, h, k.seal)
			require.NoError(t, err)
			assert.Equal(t, stay, list)
			r := NewFrameReader(bytes.NewReader(out.Bytes()[first+int64(stay[0].Length):]), k.seal, stay[1].Origin)
			content, err := r.Next()
			require.NoError(t, err)
			assert.Equal(t, "flood", string(content), "a frame is opened by where it was first")
			damaged := bytes.Clone(out.Bytes())
			damaged[HeaderSize+FrameHeader] ^= 1
			_, _, err = Table(bytes.NewReader(damaged[HeaderSize:]), h, k.seal)
			assert.ErrorIs(t, err, ErrCorrupt)
		}
	}
}

func TestAFrameLeftOutIsNoticed(t *testing.T) {
	for _, k := range []sealing{open, locked(1)} {
		whole, frames := pack(t, k, "low", "tide")
		at := frames[1].Origin
		_, err := read(k, append(bytes.Clone(whole[:at]), whole[at+int64(frames[1].Length):]...))
		assert.ErrorIs(t, err, ErrCorrupt)
		inside := NewFrameReader(bytes.NewReader(whole[at:]), k.seal, at)
		content, err := inside.Next()
		require.NoError(t, err)
		assert.Equal(t, "tide", string(content))
		_, err = inside.Next()
		assert.ErrorIs(t, err, io.EOF, "read from the inside, only frames are verified")
	}
}

func TestAReaderGoesOnWithAnotherSource(t *testing.T) {
	content := bytes.Repeat([]byte("0123456789abcdef"), ExtentSize/4)
	b := object(t, locked(1), content, Plain)
	bad := bytes.Clone(b)
	bad[HeaderSize+FrameHeader+ExtentSize+500] ^= 1 // in the second frame
	h, err := ParseHeader(bad)
	require.NoError(t, err)
	r := NewObjectReader(bytes.NewReader(bad[HeaderSize:]), h, locked(1).seal)
	got, err := r.Next()
	require.NoError(t, err)
	all := bytes.Clone(got)
	_, err = r.Next()
	require.ErrorIs(t, err, ErrCorrupt)
	r.Resume(bytes.NewReader(b[r.At():]))
	for {
		part, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		all = append(all, part...)
	}
	assert.Equal(t, content, all)
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

func drawExtents(t *rapid.T) []Extent {
	return rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Extent {
		if rapid.Bool().Draw(t, "zero") {
			return Extent{}
		}
		e := Extent{Pack: rapid.SampledFrom([]string{"a-000001", "a-000002", "b-000001"}).Draw(t, "pack")}
		e.Offset = rapid.Int64Range(HeaderSize, 1<<40).Draw(t, "offset")
		e.Length = rapid.IntRange(FrameHeader, FrameHeader+ExtentSize).Draw(t, "length")
		copy(e.Hash[:], rapid.SliceOfN(rapid.Byte(), 16, 16).Draw(t, "hash"))
		return e
	}), 0, 40).Draw(t, "extents")
}

func TestSheets(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := drawExtents(t)
		b := AppendSheet(nil, want)
		got, err := DecodeSheet(b, nil)
		require.NoError(t, err)
		require.Equal(t, append([]Extent(nil), want...), got)
		for n := range b {
			_, err := DecodeSheet(b[:n], nil)
			require.ErrorIs(t, err, ErrCorrupt)
		}
	})
}

// TestImpossibleExtents changes one extent of a sheet into what no pack can hold.
func TestImpossibleExtents(t *testing.T) {
	for what, c := range map[string]struct {
		extent Extent
		ok     bool
	}{
		"the first there can be":        {Extent{Pack: "a", Offset: HeaderSize, Length: FrameHeader}, true},
		"within the header of its pack": {Extent{Pack: "a", Offset: HeaderSize - 1, Length: FrameHeader}, false},
		"in front of it":                {Extent{Pack: "a", Offset: -1, Length: FrameHeader}, false},
		"shorter than a frame's header": {Extent{Pack: "a", Offset: HeaderSize, Length: FrameHeader - 1}, false},
		"as long as a frame can be":     {Extent{Pack: "a", Offset: HeaderSize, Length: FrameHeader + maxStored}, true},
		"longer":                        {Extent{Pack: "a", Offset: HeaderSize, Length: FrameHeader + maxStored + 1}, false},
	} {
		got, err := DecodeSheet(AppendSheet(nil, []Extent{c.extent}), nil)
		if !c.ok {
			assert.ErrorIs(t, err, ErrCorrupt, what)
			continue
		}
		require.NoError(t, err, what)
		assert.Equal(t, []Extent{c.extent}, got, what)
	}
	for what, b := range map[string][]byte{
		"a pack that is not listed": {sheetVersion, 1, 1, 'a', 1, 2},
		"a pack without a name":     append([]byte{sheetVersion, 1, 0, 1, 1, 64, 40}, make([]byte, 16)...),
		"more than one sheet holds": binary.AppendUvarint([]byte{sheetVersion, 0}, SheetExtents+1),
		"another version":           {sheetVersion + 1, 0, 0},
		"something follows":         {sheetVersion, 0, 0, 0},
	} {
		_, err := DecodeSheet(b, nil)
		assert.ErrorIs(t, err, ErrCorrupt, what)
	}
}

// TestImpossibleFrames says of frames in their headers what cannot be.
func TestImpossibleFrames(t *testing.T) {
	for what, put := range map[string]func(head []byte){
		"stored longer than any":    func(b []byte) { binary.LittleEndian.PutUint32(b[8:], maxStored+1) },
		"stored of 4 GiB":           func(b []byte) { binary.LittleEndian.PutUint32(b[8:], 1<<32-1) },
		"longer than an extent":     func(b []byte) { binary.LittleEndian.PutUint32(b[4:], ExtentSize+1) },
		"an unknown codec":          func(b []byte) { b[0] = byte(Zstd) + 1 },
		"one before a table's":      func(b []byte) { b[0] = byte(tableMark) - 1 },
		"not zero where it must be": func(b []byte) { b[2] = 1 },
		"an end that holds bytes":   func(b []byte) { b[0] = byte(endMark) },
	} {
		frame := AppendFrame(nil, []byte("tide"), Plain)
		var hash Hash = HashOf([]byte("tide"))
		copy(frame[tagAt:], hash[:])
		put(frame)
		binary.LittleEndian.PutUint32(frame[crcAt:], frameCRC(frame[:FrameHeader], frame[FrameHeader:]))
		r := NewFrameReader(bytes.NewReader(frame), nil, 0)
		_, err := r.Next()
		assert.ErrorIs(t, err, ErrCorrupt, what)
		assert.NotContains(t, err.Error(), "cut short", "%s: it is refused before it is read", what)
		assert.Less(t, cap(r.stored), 2*ExtentSize+64, what)
	}
}

func FuzzDecodeSheet(f *testing.F) {
	f.Add(AppendSheet(nil, []Extent{{}, {Pack: "a", Offset: 32, Length: 40}}))
	f.Fuzz(func(t *testing.T, b []byte) {
		list, err := DecodeSheet(b, nil)
		if err != nil {
			return
		}
		again, err := DecodeSheet(AppendSheet(nil, list), nil)
		require.NoError(t, err)
		require.Equal(t, list, again)
	})
}

func writeManifest(t *testing.T, finish bool) []byte {
	var out bytes.Buffer
	w, err := NewManifestWriter(&out, Head{Backup: "b", Cluster: "c", SystemID: 1 << 63,
		Tablespaces: []TablespaceEntry{{16400, "/ledger"}}})
	require.NoError(t, err)
	crc := uint32(7)
	require.NoError(t, w.Add(&File{Path: "base/5/1259", Size: 8192, CRC32C: &crc, Sheet: []byte{1, 0, 1, 0},
		Modified: time.Unix(0, 0).UTC()}))
	require.NoError(t, w.Add(&File{Place: InConfig, Path: "files/etc/postgresql.conf"}))
	if finish {
		require.NoError(t, w.Finish([]Use{{"b-000001", 3, 500}}, Tail{Start: 0x10, Stop: 0x20, Files: 2}))
	}
	return out.Bytes()
}

func TestManifest(t *testing.T) {
	var head Head
	var files []File
	var uses []Use
	all := Visit{
		Head: func(h Head) error { head = h; return nil },
		File: func(f *File) error { files = append(files, *f); return nil },
		Pack: func(u Use) error { uses = append(uses, u); return nil },
	}
	whole := writeManifest(t, true)
	tail, err := ReadManifest(bytes.NewReader(whole), all)
	require.NoError(t, err)
	assert.Equal(t, uint64(1<<63), head.SystemID, "64 bits survive JSON")
	assert.Equal(t, int64(2), tail.Files)
	require.Len(t, files, 2)
	assert.Equal(t, uint32(7), *files[0].CRC32C)
	assert.Equal(t, 1, files[0].Extents())
	assert.Equal(t, InConfig, files[1].Place)
	assert.Equal(t, []Use{{"b-000001", 3, 500}}, uses)

	lines := bytes.SplitAfter(whole, []byte("\n"))
	for name, broken := range map[string][]byte{
		"no tail":      writeManifest(t, false),
		"a pack short": bytes.Join(append(lines[:3:3], lines[4:]...), nil),
		"swapped":      bytes.Join([][]byte{lines[0], lines[3], lines[1], lines[4]}, nil),
		"no head":      []byte(`{"file":{"path":"x"}}`),
	} {
		_, err = ReadManifest(bytes.NewReader(broken), Visit{})
		assert.ErrorIs(t, err, ErrCorrupt, name)
	}
	_, err = ReadManifest(bytes.NewReader([]byte(`{"head":{"format":"velvet-manifest/9"}}`)), Visit{})
	assert.ErrorContains(t, err, "another version of velvet")
	stop := errors.New("stop")
	_, err = ReadManifest(bytes.NewReader(whole), Visit{File: func(*File) error { return stop }})
	assert.ErrorIs(t, err, stop)
}

// FuzzReadObject reads any bytes as an object: it must not panic, nor allocate
// more than a frame at a time.
func FuzzReadObject(f *testing.F) {
	for _, c := range codecs {
		f.Add(object(f, open, bytes.Repeat([]byte("tide"), 100), c))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		h, err := ParseHeader(b)
		if err != nil || h.Key != 0 {
			return
		}
		r := NewObjectReader(bytes.NewReader(b[HeaderSize:]), h, nil)
		for err == nil {
			_, err = r.Next()
		}
		if held := cap(r.stored) + cap(r.plain); held > 2*(maxStored+ExtentSize) {
			t.Fatalf("%d bytes are held", held)
		}
	})
}

// TestAFrameThatSaysItIsHuge is refused before room is made for what it says.
func TestAFrameThatSaysItIsHuge(t *testing.T) {
	forged := binary.AppendUvarint(nil, 2<<30)
	forged = append(forged, 0, 0, 0, 0)
	frame := append(make([]byte, FrameHeader), forged...)
	frame[0] = byte(S2)
	binary.LittleEndian.PutUint32(frame[4:], ExtentSize)
	binary.LittleEndian.PutUint32(frame[8:], uint32(len(forged)))
	binary.LittleEndian.PutUint32(frame[crcAt:], frameCRC(frame[:FrameHeader], forged))
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err := NewFrameReader(bytes.NewReader(frame), nil, 0).Next()
	runtime.ReadMemStats(&after)
	require.ErrorIs(t, err, ErrCorrupt)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(16<<20))
}
