package wal

import (
	"bytes"
	"encoding/binary"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
)

// data lays numbers of different widths one after the other.
func data(values ...any) []byte {
	var b []byte
	for _, v := range values {
		switch n := v.(type) {
		case string:
			b = append(b, n...)
		default:
			b, _ = binary.Append(b, binary.LittleEndian, n)
		}
	}
	return b
}

// TestDecodeOtherVersions reads what differs from the version that the server judges:
// as far as the formats are documented.
func TestDecodeOtherVersions(t *testing.T) {
	at := pg.Timestamp(1000)
	oid := uint32(16400)
	for what, c := range map[string]struct {
		version int
		record  Record
		kind    string
		want    Body
	}{
		"14 drops databases": {14, Record{Manager: ManagerDatabase, Info: 0x10, Main: data(oid, uint32(1), uint32(1663))},
			"DROP", DatabaseDrop{oid, []uint32{1663}}},
		"15 drops databases": {15, Record{Manager: ManagerDatabase, Info: 0x20, Main: data(oid, uint32(1), uint32(1663))},
			"DROP", DatabaseDrop{oid, []uint32{1663}}},
		"16 prunes": {16, Record{Manager: ManagerHeap2, Info: 0x10,
			Main: data(uint32(9), uint16(1), uint16(2), uint8(0))}, "PRUNE", HeapPrune{9, 1, 2}},
		"17 prunes with a horizon": {17, Record{Manager: ManagerHeap2, Info: 0x20, Main: data(uint8(0), uint8(8), uint32(9))},
			"PRUNE_VACUUM_SCAN", HeapPrune{Horizon: 9}},
		"17 prunes without one": {17, Record{Manager: ManagerHeap2, Info: 0x30, Main: data(uint8(0), uint8(0))},
			"PRUNE_VACUUM_CLEANUP", HeapPrune{}},
		"14 prepares": {14, Record{Manager: ManagerTransaction, Info: 0x10,
			Main: data(make([]byte, 8), uint32(7), uint32(5), uint64(1000), uint32(10), uint32(1), make([]byte, 8), uint32(0), uint16(0),
				uint16(4), make([]byte, 16), "ebb\x00\x00\x00\x00\x00", uint32(8))}, "PREPARE", Prepare{7, 5, at, []pg.XID{8}, "ebb"}},
		"18 drops wider statistics": {18, Record{Manager: ManagerTransaction, Info: 0x80, XID: 7,
			Main: data(uint64(1000), uint32(1<<8|1<<4), uint32(1), make([]byte, 16), uint32(9))}, "COMMIT",
			End{XID: 9, Committed: true, Time: at}},
		"15 drops statistics": {15, Record{Manager: ManagerTransaction, Info: 0x80, XID: 7,
			Main: data(uint64(1000), uint32(1<<8|1<<4), uint32(1), make([]byte, 12), uint32(9))}, "COMMIT",
			End{XID: 9, Committed: true, Time: at}},
		"17 marks the redo of a checkpoint": {17, Record{Manager: ManagerXLOG, Info: 0xe0, Main: data(uint32(1))}, "CHECKPOINT_REDO", nil},
		"an index only refers to pages":     {15, Record{Manager: 11, Info: 0x00, Main: data(uint16(3))}, "INSERT_LEAF", nil},
		"an unknown kind is opaque":         {15, Record{Manager: ManagerStandby, Info: 0x70}, "UNKNOWN (70)", nil},
		"an unknown manager is opaque":      {17, Record{Manager: 130, Info: 0x10}, "UNKNOWN (10)", nil},
		"the end of recovery": {16, Record{Manager: ManagerXLOG, Info: 0x90, Main: data(uint64(1000), uint32(2), uint32(1))},
			"END_OF_RECOVERY", EndOfRecovery{at, 2, 1}},
		"a lost record": {15, Record{Manager: ManagerXLOG, Info: 0xd0, Main: data(uint64(0x1000), uint64(1000))},
			"OVERWRITE_CONTRECORD", Overwrite{0x1000, at}},
	} {
		got, err := Decode(&c.record, pg.Major(c.version))
		require.NoError(t, err, what)
		assert.Equal(t, c.want, got, what)
		assert.Equal(t, c.kind, c.record.Kind(pg.Major(c.version)), what)
	}
	_, err := Decode(&Record{Manager: ManagerXLOG, Info: 0x10, Main: make([]byte, 40), Start: 0x28}, pg.Major(15))
	assert.ErrorContains(t, err, "the WAL cannot be replayed from 0/28 on: a record of XLOG CHECKPOINT_ONLINE ends within its fields")
	_, err = Decode(&Record{Manager: ManagerStandby, Info: 0x00, Main: data(uint32(1 << 31))}, pg.Major(15))
	assert.Error(t, err, "no more locks than there are bytes for")
}

// TestPageImages puts pages with holes through each compression and back.
func TestPageImages(t *testing.T) {
	v := pg.Major(15)
	encoder, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		start := rapid.IntRange(24, 4000).Draw(t, "start")
		size := rapid.IntRange(0, 4000).Draw(t, "size")
		page := bytes.Repeat([]byte("flood and ebb "), 600)[:pg.BlockSize]
		clear(page[start : start+size])
		bare := append(bytes.Clone(page[:start]), page[start+size:]...)
		packed := make([]byte, lz4.CompressBlockBound(len(bare)))
		n, err := lz4.CompressBlock(bare, packed, nil)
		require.NoError(t, err)
		for info, image := range map[uint8][]byte{0: bare, v.ImageLZ4: packed[:n], v.ImageZstd: encoder.EncodeAll(bare, nil),
			v.ImagePGLZ: literal(bare)} {
			b := Block{Image: image, ImageInfo: info | imageHasHole, HoleStart: uint16(start), HoleSize: uint16(size)}
			got, err := b.Page(v)
			require.NoError(t, err, "%#x", info)
			require.Equal(t, page, got, "%#x", info)
		}
	})
	out, err := pg.UnpackPGLZ([]byte{0x02, 'x', 0x0f, 0x01, 0x02}, 21) // one literal, then 20 times the byte before
	require.NoError(t, err)
	assert.Equal(t, bytes.Repeat([]byte("x"), 21), out)
	for _, bad := range [][]byte{{0x01, 0x00}, {0x01, 0x00, 0x05}, {0x03, 0x0f, 0x01}} {
		_, err := pg.UnpackPGLZ(bad, 100)
		assert.Error(t, err)
	}
	_, err = (&Block{Image: []byte{1}, ImageInfo: v.ImageLZ4 | v.ImageZstd}).Page(v)
	assert.ErrorContains(t, err, "more than one way")
	_, err = (&Block{}).Page(v)
	assert.ErrorContains(t, err, "no page image")
}

// literal is pglz without a single repetition.
func literal(b []byte) (out []byte) {
	for len(b) > 0 {
		n := min(8, len(b))
		out = append(append(out, 0), b[:n]...)
		b = b[n:]
	}
	return out
}

// TestReaderGoesOnAtARecord reads a log in two parts, with a new reader for the second.
func TestReaderGoesOnAtARecord(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := newWriter(1 << 20)
		for i, n := range rapid.SliceOfN(rapid.IntRange(0, 20_000), 2, 40).Draw(t, "lengths") {
			w.record(Manager(10), 0x20, pg.XID(i+3), make([]byte, n))
		}
		all, _ := readAll(reader(w.out, w.start))
		cut := rapid.IntRange(1, len(w.out)).Draw(t, "cut")
		first := reader(w.out[:cut], w.start)
		before, _ := readAll(first)
		from := first.Position()
		page := PageOf(from)
		require.GreaterOrEqual(t, from, w.start)
		later := NewReader(bytes.NewReader(w.out[page-w.start:]), Options{Start: page, SegmentSize: 1 << 20, SystemID: testSystem,
			From: from, Prev: first.prev})
		after, _ := readAll(later)
		require.Equal(t, all, append(before, after...), "cut at %d, on at %s", cut, from)
	})
}

// TestOverwrittenSegments reads segments in which something else stands where the log should go on.
func TestOverwrittenSegments(t *testing.T) {
	w := newWriter(1 << 20)
	for i := range 400 {
		w.record(Manager(10), 0, pg.XID(i+3), make([]byte, 300))
	}
	for what, change := range map[string]func([]byte) []byte{
		"zeroes in the middle":   func(b []byte) []byte { clear(b[3*PageSize : 5*PageSize]); return b },
		"an old segment's pages": func(b []byte) []byte { copy(b[3*PageSize:], w.out[PageSize:2*PageSize]); return b },
		"cut short in a page":    func(b []byte) []byte { return b[:3*PageSize+100] },
		"a page left out":        func(b []byte) []byte { return append(b[:3*PageSize], b[4*PageSize:]...) },
	} {
		sound, _ := readAll(reader(w.out, w.start))
		got, err := readAll(reader(change(bytes.Clone(w.out)), w.start))
		require.Error(t, err, what)
		assert.Less(t, len(got), len(sound), what)
		assert.Equal(t, sound[:len(got)], got, "%s: nothing is made up", what)
	}
}

func TestInsertedRows(t *testing.T) {
	row, ok, err := InsertedRow(&Record{Manager: ManagerHeap,
		Blocks: []Block{{Data: data(uint16(0), uint16(0), uint8(24), uint8(0), "columns")}}}, pg.Major(15))
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "columns", string(row))
	page := make([]byte, pg.BlockSize)
	binary.LittleEndian.PutUint32(page[pageHead+4:], 8000|1<<15|31<<17) // the second line pointer
	page[8000+tupleHeader-1] = 24
	copy(page[8024:], "columns")
	row, ok, err = InsertedRow(&Record{Manager: ManagerHeap, Main: data(uint16(2), uint8(0)), Blocks: []Block{{Image: page}}}, pg.Major(15))
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "columns", string(row), "from the image of the page")
	last := (pg.BlockSize - pageHead) / 4
	copy(page[pageHead-4:], page[pageHead+4:pageHead+8])        // what stands before the first pointer looks like one
	for _, pointer := range []int{0, 1, last, last + 1, 3000} { // of which none points to a row
		_, ok, err = InsertedRow(&Record{Manager: ManagerHeap, Main: data(uint16(pointer), uint8(0)), Blocks: []Block{{Image: page}}},
			pg.Major(15))
		assert.Error(t, err, pointer)
		assert.False(t, ok)
	}
	for what, line := range map[string]uint32{"shorter than its header": 8000 | 1<<15 | 22<<17, "beyond the page": 8162 | 1<<15 | 31<<17,
		"its columns beyond it": 8100 | 1<<15 | 23<<17} {
		bad := bytes.Clone(page)
		binary.LittleEndian.PutUint32(bad[pageHead+4:], line)
		bad[8100+tupleHeader-1] = 24
		_, _, err = InsertedRow(&Record{Manager: ManagerHeap, Main: data(uint16(2), uint8(0)), Blocks: []Block{{Image: bad}}}, pg.Major(15))
		assert.Error(t, err, what)
	}
	for _, short := range [][]byte{data(uint16(0), uint16(0)), data(uint16(0), uint16(0), uint8(22), uint8(0)),
		data(uint16(0), uint16(0), uint8(25), uint8(0))} {
		_, _, err = InsertedRow(&Record{Manager: ManagerHeap, Blocks: []Block{{Data: short}}}, pg.Major(15))
		assert.Error(t, err)
	}
	_, ok, err = InsertedRow(&Record{Manager: ManagerHeap, Info: 0x10}, pg.Major(15))
	assert.False(t, ok)
	assert.NoError(t, err)
}

// FuzzRecord takes any bytes for a record whose CRC was right.
func FuzzRecord(f *testing.F) {
	w := newWriter(1 << 20)
	info, main := commitData(time.Now().UnixMicro(), 11)
	w.record(ManagerTransaction, info, 10, main)
	f.Add(w.out[longHeader:], uint8(15))
	f.Add(data(uint32(60), uint32(7), uint64(0), uint8(0), uint8(10), uint16(0), uint32(0), uint8(0), uint8(blockHasImage), uint16(0),
		uint16(4), uint16(0), uint8(0x04), make([]byte, 16)), uint8(15))
	f.Fuzz(func(t *testing.T, b []byte, version uint8) {
		if len(b) < recordHeader {
			return
		}
		v := pg.Versions()[int(version)%len(pg.Versions())]
		var r Record
		if r.decode(b, v) != nil {
			return
		}
		_, _ = Decode(&r, v)
		_, _, _ = RowsOf(&r)
		_, _, _ = InsertedRow(&r, v)
		_ = r.Kind(v)
		for i := range r.Blocks {
			if page, err := r.Blocks[i].Page(v); err == nil && len(page) != pg.BlockSize {
				t.Fatalf("a page of %d bytes", len(page))
			}
		}
	})
}
