package wal

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
)

// some writes records of random lengths and gives where they begin.
func some(t *rapid.T, w *writer, name string, least int) (starts []pg.LSN) {
	lengths := rapid.SliceOfN(rapid.OneOf(rapid.IntRange(0, 300), rapid.IntRange(3000, 20_000)), least, 20).Draw(t, name)
	for i, n := range lengths {
		starts = append(starts, w.record(Manager(10), 0, pg.XID(i+3), make([]byte, n)))
	}
	return starts
}

// TestWhatAnEarlierLogLeft has a server crash and go on from an earlier place: after what it writes then stand pages
// of the log before, at their right addresses, with records whose CRC is right. None of them is read as its own.
func TestWhatAnEarlierLogLeft(t *testing.T) {
	stale := 0
	rapid.Check(t, func(t *rapid.T) {
		earlier := newWriter(1 << 20)
		common := some(t, earlier, "common", 1)
		later := &writer{out: bytes.Clone(earlier.out), start: earlier.start, size: earlier.size, prev: earlier.prev}
		left := some(t, earlier, "earlier", 5)
		own := append(common, some(t, later, "later", 0)...)
		if room := PageSize - len(later.out)%PageSize - recordHeader - 5; room >= 0 && rapid.Bool().Draw(t, "to a page's end") {
			own = append(own, later.record(Manager(10), 0, 99, make([]byte, room))) // else zeroes follow, and end it
		}
		end := (len(later.out) + PageSize - 1) / PageSize * PageSize
		if end >= len(earlier.out) {
			t.Skip("nothing is left of it")
		}
		log := append(later.out, make([]byte, end-len(later.out))...)
		log = append(log, earlier.out[end:]...)
		before := common[len(common)-1]
		for _, start := range left {
			if start >= later.start+pg.LSN(end) && before == own[len(own)-1] {
				t.Skip("it went on at the very same place: nobody can tell")
			}
			before = start
		}
		got, err := readAll(reader(log, later.start))
		require.Error(t, err)
		require.Equal(t, own, got)
		var damage *Damage
		if errors.As(err, &damage) {
			stale++
		}
	})
	assert.Positive(t, stale, "the earlier log was met at all")
}

// lose writes the beginning of a record, up to a page border, and what a server writes there that has crashed
// before it wrote the rest.
func (w *writer) lose(pages int) (overwrite pg.LSN) {
	prev := w.prev
	if len(w.out)%PageSize == 0 {
		w.header(0)
	}
	border := (len(w.out)/PageSize + pages) * PageSize
	w.record(Manager(10), 0, 99, make([]byte, (pages+1)*PageSize))
	w.out, w.prev = w.out[:border], prev
	w.header(0)
	binary.LittleEndian.PutUint16(w.out[border+2:], binary.LittleEndian.Uint16(w.out[border+2:])|flagOverwritesLost)
	return w.raw(ManagerXLOG, xlogOverwrite, 0, append([]byte{idMainShort, 16}, make([]byte, 16)...))
}

// TestRecordsThatWereNeverFinished reads over records of which a crash kept the rest from being written.
func TestRecordsThatWereNeverFinished(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := newWriter(1 << 20)
		want := some(t, w, "before", 0)
		for range rapid.IntRange(1, 3).Draw(t, "crashes") {
			want = append(want, w.lose(rapid.IntRange(1, 3).Draw(t, "pages")))
			want = append(want, some(t, w, "after", 0)...)
		}
		got, err := readAll(reader(w.out, w.start))
		require.ErrorIs(t, err, io.EOF)
		require.Equal(t, want, got)
	})
}

// TestImpossibleContinuations changes what a page says of the record that goes on there, and lengths of records.
func TestImpossibleContinuations(t *testing.T) {
	w := newWriter(1 << 20)
	w.record(Manager(10), 0, 3, make([]byte, 50))
	long := w.record(Manager(10), 0, 4, make([]byte, 2*PageSize))
	w.record(Manager(10), 0, 5, make([]byte, 50))
	remaining := binary.LittleEndian.Uint32(w.out[PageSize+16:])
	length := int(long - w.start)
	put := func(at int, n uint32) func([]byte) {
		return func(b []byte) { binary.LittleEndian.PutUint32(b[at:], n) }
	}
	for what, c := range map[string]struct {
		change func([]byte)
		says   string
		read   int
	}{
		"a byte less":               {put(PageSize+16, remaining-1), "should go on here", 1},
		"a byte more":               {put(PageSize+16, remaining+1), "should go on here", 1},
		"as much as on page before": {put(2*PageSize+16, remaining), "should go on here", 1},
		"nothing goes on":           {func(b []byte) { b[PageSize+2] &^= flagContinuation }, "should go on here", 1},
		"of no length but one":      {put(length, 1), "impossible record length 1", 1},
		"shorter than its header":   {put(length, recordHeader-1), "impossible record length 23", 1},
		"longer than any":           {put(length, MaxRecord+1), "impossible record length", 1},
		"longer than it is":         {put(length, MaxRecord), "should go on here", 1},
		"only a header":             {put(length, recordHeader), "record CRC", 1},
	} {
		b := bytes.Clone(w.out)
		c.change(b)
		got, err := readAll(reader(b, w.start))
		var d *Damage
		require.ErrorAs(t, err, &d, what)
		assert.Contains(t, d.Error(), c.says, what)
		assert.Len(t, got, c.read, what)
	}
	// A record with its CRC right that says of the one before it what is not so.
	for off, says := range map[int]string{0: "", 8: "the one before it is at"} {
		b := bytes.Clone(w.out)
		rec := b[length:]
		binary.LittleEndian.PutUint64(rec[recordPrev:], binary.LittleEndian.Uint64(rec[recordPrev:])+uint64(off))
		whole := append(bytes.Clone(b[length:PageSize]), append(bytes.Clone(b[PageSize+shortHeader:2*PageSize]),
			b[2*PageSize+shortHeader:]...)...)
		whole = whole[:binary.LittleEndian.Uint32(rec)]
		crc := crc32.Update(crc32.Checksum(whole[recordHeader:], pg.Castagnoli), pg.Castagnoli, whole[:recordCRC])
		binary.LittleEndian.PutUint32(rec[recordCRC:], crc)
		got, err := readAll(reader(b, w.start))
		if says == "" {
			require.ErrorIs(t, err, io.EOF)
			assert.Len(t, got, 3)
			continue
		}
		assert.ErrorContains(t, err, says)
		assert.Len(t, got, 1)
	}
}

// imageBody is a block reference with a page image, as a version writes it.
func imageBody(info uint8, holeStart, holeSize int, image []byte, withHole bool) []byte {
	body := data(uint8(0), uint8(blockHasImage), uint16(0), uint16(len(image)), uint16(holeStart), info)
	if withHole {
		body = append(body, data(uint16(holeSize))...)
	}
	body = append(body, data(uint32(1663), uint32(5), uint32(16385), uint32(77), uint8(idMainShort), uint8(2))...)
	return append(append(body, image...), "mm"...)
}

// TestImagesOfEachVersion reads page images with a hole in every form that each version has.
func TestImagesOfEachVersion(t *testing.T) {
	const start, size = 3000, 1000
	decode := func(v *pg.Version, body []byte) (Record, error) {
		raw := append(make([]byte, recordHeader), body...)
		binary.LittleEndian.PutUint32(raw, uint32(len(raw)))
		var r Record
		return r, r.decode(raw, v)
	}
	for _, v := range pg.Versions() {
		for _, packed := range []bool{false, true} {
			page := bytes.Repeat([]byte("x"), pg.BlockSize)
			clear(page[start : start+size])
			info, image := uint8(imageHasHole), bytes.Repeat([]byte("x"), pg.BlockSize-size)
			if packed {
				info, image = info|v.ImagePGLZ, repeated(pg.BlockSize-size)
			}
			r, err := decode(v, imageBody(info, start, size, image, packed))
			require.NoError(t, err, "version %d", v.Major)
			require.Equal(t, "mm", string(r.Main))
			require.EqualValues(t, size, r.Blocks[0].HoleSize)
			got, err := r.Blocks[0].Page(v)
			require.NoError(t, err, "version %d", v.Major)
			require.Equal(t, page, got, "version %d", v.Major)
		}
	}
	v := pg.Major(15)
	whole := bytes.Repeat([]byte{7}, pg.BlockSize)
	for what, c := range map[string]struct {
		body []byte
		ok   bool
	}{
		"a whole page":             {imageBody(0, 0, 0, whole, false), true},
		"longer than a page":       {imageBody(0, 0, 0, append(whole, 1), false), false},
		"a hole to the page's end": {imageBody(imageHasHole|v.ImagePGLZ, 8000, 192, whole[:100], true), true},
		"a hole beyond it":         {imageBody(imageHasHole|v.ImagePGLZ, 8000, 193, whole[:100], true), false},
		"one that is too long":     {imageBody(imageHasHole, 8000, 0, whole[:100], false), false},
	} {
		_, err := decode(v, c.body)
		assert.Equal(t, c.ok, err == nil, "%s: %v", what, err)
	}
	_, err := decode(v, data(uint8(0), uint8(blockSameRel), uint16(0), uint32(77)))
	assert.ErrorContains(t, err, "names no relation")
}

// repeated is pglz of one byte, over and over.
func repeated(n int) []byte {
	out := []byte{0x02, 'x'} // a literal, then a copy
	left, bit := n-1, 1
	control := 0
	for left > 0 {
		if bit == 8 {
			out = append(out, 0)
			control, bit = len(out)-1, 0
		}
		out[control] |= 1 << bit
		bit++
		length := min(left, 273)
		switch {
		case length < 18:
			out = append(out, byte(max(length, 3)-3), 1)
		default:
			out = append(out, 0x0f, 1, byte(length-18))
		}
		left -= length
	}
	return out
}
