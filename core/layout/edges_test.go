package layout

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestFramesAreNeverLonger compresses what can be, and stores the rest as it is.
func TestFramesAreNeverLonger(t *testing.T) {
	noise := make([]byte, 5000)
	for i := range noise {
		noise[i] = byte(rand.Uint32())
	}
	tide := bytes.Repeat([]byte("ebb and flood "), 300)
	for _, codec := range codecs {
		for _, content := range [][]byte{nil, []byte("e"), noise, tide} {
			frame := AppendFrame([]byte("before"), content, codec)[len("before"):]
			assert.LessOrEqual(t, len(frame), FrameHeader+len(content), codec)
			if codec != Plain && len(content) == len(tide) {
				assert.Less(t, len(frame), FrameHeader+len(tide)/10, codec)
				assert.Equal(t, byte(codec), frame[0])
			} else {
				assert.Equal(t, byte(Plain), frame[0], "what does not shrink is stored plain")
				assert.Equal(t, content, append([]byte(nil), frame[FrameHeader:]...))
			}
			assert.EqualValues(t, len(content), plainLength(frame))
			assert.EqualValues(t, len(frame)-FrameHeader, binary.LittleEndian.Uint32(frame[8:]))
			(*Seal)(nil).seal(frame, 0, HashOf(content))
			r := NewFrameReader(bytes.NewReader(frame), nil, 0)
			got, err := r.Next()
			require.NoError(t, err)
			assert.Equal(t, len(content), len(got))
			assert.Equal(t, len(frame), r.Length())
		}
	}
}

func TestExtentsOfAFile(t *testing.T) {
	for size, n := range map[int64]int{0: 0, 1: 1, ExtentSize - 1: 1, ExtentSize: 1, ExtentSize + 1: 2, 8 * ExtentSize: 8,
		8*ExtentSize + 1: 9} {
		assert.Equal(t, n, (&File{Size: size}).Extents(), size)
	}
}

// TestPiecesMakeNoDifference writes an object in pieces of any length, and at once.
func TestPiecesMakeNoDifference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		content := bytes.Repeat([]byte("low tide, "), rapid.IntRange(0, 40_000).Draw(t, "times"))
		written := func(step func() int) []byte {
			var out bytes.Buffer
			s := NewStream(&out, Header{}, nil, S2)
			for rest := content; len(rest) > 0; {
				n := min(step(), len(rest))
				_, err := s.Write(rest[:n])
				require.NoError(t, err)
				rest = rest[n:]
			}
			require.NoError(t, s.Close())
			return out.Bytes()
		}
		whole := written(func() int { return len(content) })
		require.Equal(t, whole, written(func() int { return rapid.IntRange(1, 2*ExtentSize).Draw(t, "piece") }))
	})
}

// TestFramesOfAnotherSize says of frames whose sums are right that they hold more or less than they do.
func TestFramesOfAnotherSize(t *testing.T) {
	content := bytes.Repeat([]byte("ebb and flood "), 300)
	for _, codec := range codecs {
		for _, plain := range []int{len(content) - 1, len(content) + 1, 0, ExtentSize} {
			frame := AppendFrame(nil, content, codec)
			binary.LittleEndian.PutUint32(frame[4:], uint32(plain))
			(*Seal)(nil).seal(frame, 0, HashOf(content))
			_, err := NewFrameReader(bytes.NewReader(frame), nil, 0).Next()
			assert.ErrorIs(t, err, ErrCorrupt, "%v, %d", codec, plain)
		}
		broken := AppendFrame(nil, content, codec)
		if codec != Plain {
			clear(broken[FrameHeader+4:])
			(*Seal)(nil).seal(broken, 0, HashOf(content))
			_, err := NewFrameReader(bytes.NewReader(broken), nil, 0).Next()
			assert.ErrorIs(t, err, ErrCorrupt, codec)
		}
	}
	for what, lengths := range map[string][2]uint32{"an end that says it holds something": {1, 0}, "an end with bytes": {0, 4}} {
		frame := AppendFrame(nil, []byte("tide")[:lengths[1]], Plain)
		frame[0] = byte(endMark)
		binary.LittleEndian.PutUint32(frame[4:], lengths[0])
		binary.LittleEndian.PutUint32(frame[crcAt:], frameCRC(frame[:FrameHeader], frame[FrameHeader:]))
		_, err := NewFrameReader(bytes.NewReader(frame), nil, 0).Next()
		assert.ErrorContains(t, err, "impossible end mark", what)
	}
	large := AppendFrame(nil, []byte("tide"), Plain)
	binary.LittleEndian.PutUint32(large[8:], 2*ExtentSize)
	_, err := NewFrameReader(bytes.NewReader(large), nil, 0).Next()
	assert.ErrorContains(t, err, "impossible frame header", "no room is made for what no frame is as long as")
}

// TestTables reads tables of condensed packs as they may be, and refuses what none is.
func TestTables(t *testing.T) {
	table := func(numbers ...uint64) (b []byte) {
		for _, n := range numbers {
			b = binary.AppendUvarint(b, n)
		}
		return b
	}
	for what, c := range map[string]struct {
		table []byte
		want  []Moved
	}{
		"none":           {nil, nil},
		"one":            {table(0, FrameHeader), []Moved{{0, FrameHeader}}},
		"two with a gap": {table(7, FrameHeader+1, 5, 100), []Moved{{7, FrameHeader + 1}, {7 + FrameHeader + 1 + 5, 100}}},
		"the longest":    {table(1<<40, FrameHeader+maxStored), []Moved{{1 << 40, FrameHeader + maxStored}}},
	} {
		got, err := parseTable(c.table)
		require.NoError(t, err, what)
		assert.Equal(t, c.want, got, what)
	}
	for what, b := range map[string][]byte{
		"half of an entry": table(5), "shorter than a frame": table(0, FrameHeader-1), "longer than any": table(0, FrameHeader+maxStored+1),
		"too far away":            table(1<<40+1, FrameHeader),
		"a number without an end": {0x80}, "a length without an end": {0x00, 0x80},
		"a number that is too large": bytes.Repeat([]byte{0xff}, 11),
	} {
		_, err := parseTable(b)
		assert.ErrorIs(t, err, ErrCorrupt, what)
	}
	whole, frames := pack(t, open, "low", "", "ebb")
	var out bytes.Buffer
	c, err := NewCondenser(&out, Header{Generation: 1}, nil, frames[1:2])
	require.NoError(t, err)
	require.NoError(t, c.Add(whole[frames[1].Origin:][:FrameHeader]), "a frame of nothing is one")
	require.NoError(t, c.Close())
	for n, ok := range map[int]bool{MostFrames: true, MostFrames + 1: false} {
		stay := make([]Moved, n)
		for i := range stay {
			stay[i] = Moved{int64(i) * FrameHeader, FrameHeader}
		}
		_, err := NewCondenser(&out, Header{Generation: 1}, nil, stay)
		assert.Equal(t, ok, err == nil, n)
	}
	full := []Moved{{1 << 28, 1 << 14}} // five bytes of the distance and three of the length, each
	for len(full) < ExtentSize/8 {
		last := full[len(full)-1]
		full = append(full, Moved{last.Origin + int64(last.Length) + 1<<28, 1 << 14})
	}
	_, err = NewCondenser(&out, Header{Generation: 1}, nil, full)
	assert.NoError(t, err, "its table just fills a frame")
	far := []Moved{{1 << 40, 1 << 20}}
	for len(far) < ExtentSize/8 {
		last := far[len(far)-1]
		far = append(far, Moved{last.Origin + int64(last.Length) + 1<<40, 1 << 20})
	}
	_, err = NewCondenser(&out, Header{Generation: 1}, nil, far)
	assert.Error(t, err, "its table is longer than a frame")
}

// TestSheetsCutShort refuses every beginning of a sheet.
func TestSheetsCutShort(t *testing.T) {
	sheet := AppendSheet(nil, []Extent{{Pack: "b-000001", Offset: 70, Length: 400, Hash: Hash{1}}, {},
		{Pack: "a-000002", Offset: 1 << 30, Length: 70, Hash: Hash{2}}, {Pack: "b-000001", Offset: 40, Length: 99, Hash: Hash{3}}})
	_, err := DecodeSheet(sheet, nil)
	require.NoError(t, err)
	for n := range sheet {
		_, err := DecodeSheet(sheet[:n], nil)
		assert.ErrorIs(t, err, ErrCorrupt, "%d of %d bytes", n, len(sheet))
	}
}

// TestAnErrorOfTheSourceIsNoDamage reads an object and a manifest from a source that fails somewhere: nothing is said of bytes
// that were not seen. One that only ends there is cut short.
func TestAnErrorOfTheSourceIsNoDamage(t *testing.T) {
	torn := errors.New("the cable is torn")
	whole, _ := pack(t, open, "low", "", "ebb")
	var manifest bytes.Buffer
	w, err := NewManifestWriter(&manifest, Head{})
	require.NoError(t, err)
	require.NoError(t, w.Finish(nil, Tail{}))
	for at := range whole {
		read := func(src io.Reader) error {
			h, err := ReadHeader(src)
			if err != nil {
				return err
			}
			r := NewObjectReader(src, h, nil)
			for err == nil {
				_, err = r.Next()
			}
			return err
		}
		err := read(io.MultiReader(bytes.NewReader(whole[:at]), iotest.ErrReader(torn)))
		require.ErrorIs(t, err, torn, at)
		require.NotErrorIs(t, err, ErrCorrupt, at)
		require.ErrorIs(t, read(bytes.NewReader(whole[:at])), ErrCorrupt, at)
	}
	for at := range manifest.Len() - 1 {
		_, err := ReadManifest(io.MultiReader(bytes.NewReader(manifest.Bytes()[:at]), iotest.ErrReader(torn)), Visit{})
		require.ErrorIs(t, err, torn, at)
		require.NotErrorIs(t, err, ErrCorrupt, at)
		_, err = ReadManifest(bytes.NewReader(manifest.Bytes()[:at]), Visit{})
		require.ErrorIs(t, err, ErrCorrupt, at)
	}
}
