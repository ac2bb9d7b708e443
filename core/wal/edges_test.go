package wal

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
)

// TestRowsOf tells for every kind of heap record which rows it changes.
func TestRowsOf(t *testing.T) {
	booking := RelationRef{1663, 5, 16385}
	on := []Block{{Space: 1663, Database: 5, Filenode: 16385}, {Space: 1663, Database: 5, Filenode: 16999}}
	for what, c := range map[string]struct {
		record Record
		want   RowChange
		ok     bool
	}{
		"insert":               {Record{Manager: ManagerHeap, Info: 0x00, Blocks: on}, RowChange{Inserted: 1}, true},
		"insert on a new page": {Record{Manager: ManagerHeap, Info: 0x80, Blocks: on}, RowChange{Inserted: 1}, true},
		"delete": {Record{Manager: ManagerHeap, Info: 0x10, Main: make([]byte, 8), Blocks: on},
			RowChange{Deleted: 1}, true},
		"other flags of a delete": {Record{Manager: ManagerHeap, Info: 0x10, Main: []byte{7: 0xe7}, Blocks: on},
			RowChange{Deleted: 1}, true},
		"to another partition": {Record{Manager: ManagerHeap, Info: 0x10, Main: []byte{7: 1 << 4}, Blocks: on},
			RowChange{Updated: 1}, true},
		"a speculative one back": {Record{Manager: ManagerHeap, Info: 0x10, Main: []byte{7: 1 << 3}, Blocks: on},
			RowChange{Inserted: -1}, true},
		"update":     {Record{Manager: ManagerHeap, Info: 0x20, Blocks: on}, RowChange{Updated: 1}, true},
		"hot update": {Record{Manager: ManagerHeap, Info: 0x40, Blocks: on}, RowChange{Updated: 1}, true},
		"truncate":   {Record{Manager: ManagerHeap, Info: 0x30, Blocks: on}, RowChange{}, false},
		"confirm":    {Record{Manager: ManagerHeap, Info: 0x50, Blocks: on}, RowChange{}, false},
		"lock":       {Record{Manager: ManagerHeap, Info: 0x60, Blocks: on}, RowChange{}, false},
		"in place":   {Record{Manager: ManagerHeap, Info: 0x70, Blocks: on}, RowChange{}, false},
		"many": {Record{Manager: ManagerHeap2, Info: 0x50, Main: data(uint16(0xffff), uint16(300)), Blocks: on},
			RowChange{Inserted: 300}, true},
		"prune":             {Record{Manager: ManagerHeap2, Info: 0x10, Main: make([]byte, 8), Blocks: on}, RowChange{}, false},
		"rewrite":           {Record{Manager: ManagerHeap2, Info: 0x00, Main: make([]byte, 8), Blocks: on}, RowChange{}, false},
		"no page":           {Record{Manager: ManagerHeap, Info: 0x00}, RowChange{}, false},
		"many on no page":   {Record{Manager: ManagerHeap2, Info: 0x50, Main: make([]byte, 4)}, RowChange{}, false},
		"an index":          {Record{Manager: 11, Info: 0x00, Blocks: on}, RowChange{}, false},
		"of the log itself": {Record{Manager: ManagerXLOG, Info: 0x50, Blocks: on}, RowChange{}, false},
	} {
		got, ok, err := RowsOf(&c.record)
		require.NoError(t, err, what)
		assert.Equal(t, c.ok, ok, what)
		if ok {
			c.want.Relation = booking
			assert.Equal(t, c.want, got, what)
		}
	}
	for _, short := range []Record{{Manager: ManagerHeap, Info: 0x10, Main: make([]byte, 7), Blocks: on},
		{Manager: ManagerHeap2, Info: 0x50, Main: make([]byte, 3), Blocks: on}} {
		_, ok, err := RowsOf(&short)
		assert.ErrorContains(t, err, "ends within its fields")
		assert.False(t, ok)
	}
}

// TestBodies decodes records with each flag set and not.
func TestBodies(t *testing.T) {
	yes, no := uint8(1), uint8(0)
	at := pg.Timestamp(1000)
	checkpoint := func(writes uint8) []byte {
		return data(uint64(0x28), uint32(2), uint32(1), writes, make([]byte, 7), uint64(1<<32|700), uint32(16384), make([]byte, 8),
			uint32(3), make([]byte, 16), uint64(1000), make([]byte, 8), uint32(699))
	}
	point := Checkpoint{Redo: 0x28, Timeline: 2, PreviousTimeline: 1, NextXID: 1<<32 | 700, NextOID: 16384, OldestXID: 3,
		Time: time.Unix(1000, 0).UTC(), OldestActive: 699}
	with := func(shutdown, writes bool) Checkpoint {
		p := point
		p.Shutdown, p.FullPageWrites = shutdown, writes
		return p
	}
	name := func(n int) []byte { return append(data(uint64(1000)), append([]byte("ebb"), make([]byte, n-3)...)...) }
	for what, c := range map[string]struct {
		record Record
		want   Body
	}{
		"an update": {Record{Manager: ManagerHeap, Info: 0x20, Main: data(uint32(7), uint16(1), uint8(2), uint8(3),
			uint32(8), uint16(4))}, HeapUpdate{7, 1, 2, 3, 8, 4, false}},
		"a hot one": {Record{Manager: ManagerHeap, Info: 0x40, Main: data(uint32(7), uint16(1), uint8(2), uint8(3),
			uint32(8), uint16(4))}, HeapUpdate{7, 1, 2, 3, 8, 4, true}},
		"truncated with what depends on it": {Record{Manager: ManagerHeap, Info: 0x30, Main: data(uint32(5), uint32(1), uint8(1), uint8(0),
			uint16(0), uint32(16384))}, HeapTruncate{Database: 5, Cascade: true, Relations: []uint32{16384}}},
		"truncated, sequences begun again": {Record{Manager: ManagerHeap, Info: 0x30, Main: data(uint32(5), uint32(1), uint8(2), uint8(0),
			uint16(0), uint32(16384))}, HeapTruncate{Database: 5, Restarted: true, Relations: []uint32{16384}}},
		"vacuum": {Record{Manager: ManagerHeap2, Info: 0x20, Main: data(uint16(9))}, HeapVacuum{9}},
		"freeze": {Record{Manager: ManagerHeap2, Info: 0x30, Main: data(uint32(7), uint16(9))},
			HeapFreeze{7, 9}},
		"a map": {Record{Manager: ManagerRelationMap, Main: data(uint32(5), uint32(1663), uint32(512),
			uint32(0x592717), uint32(1), uint32(1259), uint32(20001))}, MapUpdate{5, 1663, map[uint32]uint32{1259: 20001}}},
		"a map of another form": {Record{Manager: ManagerRelationMap, Main: data(uint32(5), uint32(1663), uint32(512),
			uint32(0x592716), uint32(1), uint32(1259), uint32(20001))}, MapUpdate{5, 1663, map[uint32]uint32{}}},
		"another record of the map": {Record{Manager: ManagerRelationMap, Info: 0x10}, nil},
		"what runs": {Record{Manager: ManagerStandby, Info: 0x10,
			Main: data(uint32(2), uint32(1), no, make([]byte, 3), uint32(20), uint32(10), uint32(9), uint32(10), uint32(11), uint32(12))},
			RunningTransactions{Running: 2, Subxacts: 1, NextXID: 20, OldestRunning: 10, LatestCompleted: 9, XIDs: []pg.XID{10, 11, 12}}},
		"more than fits": {Record{Manager: ManagerStandby, Info: 0x10,
			Main: data(uint32(0), uint32(0), yes, make([]byte, 3), uint32(20), uint32(10), uint32(9))},
			RunningTransactions{Overflowed: true, NextXID: 20, OldestRunning: 10, LatestCompleted: 9, XIDs: []pg.XID{}}},
		"invalidations": {Record{Manager: ManagerStandby, Info: 0x20,
			Main: data(uint32(5), uint32(1663), no, make([]byte, 3), uint32(1), make([]byte, invalidationSize))},
			StandbyInvalidations{5, 1663, false, 1}},
		"invalidations of all": {Record{Manager: ManagerStandby, Info: 0x20,
			Main: data(uint32(5), uint32(1663), yes, make([]byte, 3), uint32(0))}, StandbyInvalidations{5, 1663, true, 0}},
		"a checkpoint":      {Record{Manager: ManagerXLOG, Info: 0x10, Main: checkpoint(yes)}, with(false, true)},
		"one at a shutdown": {Record{Manager: ManagerXLOG, Info: 0x00, Main: checkpoint(no)}, with(true, false)},
		"settings": {Record{Manager: ManagerXLOG, Info: 0x60,
			Main: data(uint32(1), uint32(2), uint32(3), uint32(4), uint32(5), uint32(6), yes, no)},
			ParameterChange{1, 2, 3, 4, 5, 6, true, false}},
		"other settings": {Record{Manager: ManagerXLOG, Info: 0x60,
			Main: data(uint32(1), uint32(2), uint32(3), uint32(4), uint32(5), uint32(6), no, yes)},
			ParameterChange{1, 2, 3, 4, 5, 6, false, true}},
		"full pages on":   {Record{Manager: ManagerXLOG, Info: 0x80, Main: []byte{1}}, FullPageWrites{true}},
		"full pages off":  {Record{Manager: ManagerXLOG, Info: 0x80, Main: []byte{0}}, FullPageWrites{false}},
		"images of hints": {Record{Manager: ManagerXLOG, Info: 0xa0}, PageImages{true}},
		"images":          {Record{Manager: ManagerXLOG, Info: 0xb0}, PageImages{false}},
		"a restore point": {Record{Manager: ManagerXLOG, Info: 0x70, Main: name(restorePointName)},
			RestorePoint{Time: at, Name: "ebb"}},
	} {
		got, err := Decode(&c.record, pg.Major(15))
		require.NoError(t, err, what)
		assert.Equal(t, c.want, got, what)
	}
	prepared := data(make([]byte, 8), uint32(7), uint32(5), uint64(1000), uint32(10), uint32(0), make([]byte, 8), uint32(0), uint16(0),
		uint16(4), make([]byte, 16), "ebb?????")
	for what, r := range map[string]Record{
		"a restore point without all of its name": {Manager: ManagerXLOG, Info: 0x70, Main: name(restorePointName - 1)},
		"a name without an end":                   {Manager: ManagerTransaction, Info: 0x10, Main: prepared},
		"fewer ids than it says": {Manager: ManagerStandby, Info: 0x10,
			Main: data(uint32(2), uint32(1), no, make([]byte, 3), uint32(20), uint32(10), uint32(9), uint32(10), uint32(11))},
	} {
		_, err := Decode(&r, pg.Major(14))
		assert.ErrorContains(t, err, "ends within its fields", what)
	}
	_, _, err := EndOf(&Record{Manager: ManagerTransaction, Info: 0x80, XID: 7, Main: data(uint64(1000), uint32(1<<8))}, pg.Major(14))
	assert.NoError(t, err, "a version that drops no statistics")
	assert.Equal(t, "Manager22", Manager(len(managerNames)).String())
	assert.Equal(t, "LogicalMessage", Manager(len(managerNames)-1).String())
}

// TestFields reads to the very end of what is there, and no further.
func TestFields(t *testing.T) {
	for what, c := range map[string]struct {
		n    int
		read func(*fields)
	}{
		"a byte": {1, func(f *fields) { f.u8() }}, "two": {2, func(f *fields) { f.u16() }}, "four": {4, func(f *fields) { f.u32() }},
		"eight":      {8, func(f *fields) { f.u64() }},
		"a relation": {12, func(f *fields) { f.relation() }}, "what is passed over": {5, func(f *fields) { f.skip(5) }},
		"ids": {12, func(f *fields) { f.xids(3) }}, "object ids": {8, func(f *fields) { f.oids(2) }},
		"items": {24, func(f *fields) { f.bounded(2, 12) }}, "none": {0, func(f *fields) { f.bounded(0, 12); f.skip(0) }},
	} {
		f := fields{b: make([]byte, c.n)}
		c.read(&f)
		assert.False(t, f.short, what)
		if c.n > 0 {
			f = fields{b: make([]byte, c.n-1)}
			c.read(&f)
			assert.True(t, f.short, what)
			assert.Zero(t, f.u32(), what)
		}
	}
	for _, bad := range []func(*fields){func(f *fields) { f.skip(-1) }, func(f *fields) { f.bounded(-1, 4) },
		func(f *fields) { f.xids(-1) }} {
		f := fields{b: make([]byte, 40)}
		bad(&f)
		assert.True(t, f.short)
	}
	f := fields{b: []byte("\x00ebb\x00flood\x00rest")}
	assert.Equal(t, []string{"", "ebb", "flood", ""}, []string{f.text(), f.text(), f.text(), f.text()})
	assert.True(t, f.short)
}

// TestUnpacking gives as many bytes as are wanted and no more, whatever follows, and ends where there are none.
func TestUnpacking(t *testing.T) {
	for what, c := range map[string]struct {
		packed string
		want   int
		out    string
		bad    bool
	}{
		"letters":                   {"\x00ebb", 3, "ebb", false},
		"more than is wanted":       {"\x00ebbflood", 3, "ebb", false},
		"another control byte, too": {"\x00ebbfloodXY\x00Z", 9, "ebbfloodY", false},
		"exactly eight":             {"\x00ebbflood\x00Z", 8, "ebbflood", false},
		"it ends after a control":   {"\x00", 3, "", false},
		"it ends sooner":            {"\x00eb", 3, "eb", false},
		"a repetition":              {"\x02e\x00\x01", 4, "eeee", false},
		"one that is longer":        {"\x02e\x0e\x01", 4, "eeee", false},
		"one with a byte for it":    {"\x02e\x0f\x01\x02", 21, "eeeeeeeeeeeeeeeeeeeee", false},
		"one that lacks it":         {"\x02e\x0f\x01", 21, "", true},
		"half a repetition":         {"\x02e\x00", 4, "", true},
		"from before the beginning": {"\x02e\x00\x02", 4, "", true},
		"from the beginning":        {"\x04eb\x00\x02", 5, "ebebe", false},
		"of itself":                 {"\x02e\x00\x00", 4, "", true},
	} {
		out, err := pg.UnpackPGLZ([]byte(c.packed), c.want)
		assert.Equal(t, c.bad, err != nil, what)
		if !c.bad {
			assert.Equal(t, c.out, string(out), what)
		}
	}
}

// TestEdgesOfRows finds rows that fill their place to the last byte.
func TestEdgesOfRows(t *testing.T) {
	v := pg.Major(15)
	insert := func(block Block, offset uint16) ([]byte, bool, error) {
		return InsertedRow(&Record{Manager: ManagerHeap, Main: data(offset, uint8(0)), Blocks: []Block{block}}, v)
	}
	for _, c := range []struct {
		data []byte
		row  string
	}{{data(uint32(0), uint8(23)), ""}, {data(uint32(0), uint8(23), "x"), "x"}, {data(uint32(0), uint8(24), uint8(0)), ""}} {
		row, ok, err := insert(Block{Data: c.data}, 1)
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, c.row, string(row))
	}
	page := func(pointer int, start, length uint32, columns byte) Block {
		b := make([]byte, pg.BlockSize)
		b[int(start)+tupleHeader-1] = columns
		binary.LittleEndian.PutUint32(b[pageHead+4*(pointer-1):], start|1<<15|length<<17)
		return Block{Image: b}
	}
	last := (pg.BlockSize - pageHead) / 4
	for what, c := range map[string]struct {
		block  Block
		offset int
		length int
	}{
		"the first pointer":          {page(1, 8000, 40, 24), 1, 16},
		"the last pointer":           {page(last, 4000, 40, 24), last, 16},
		"nothing but a header":       {page(1, 8000, 23, 23), 1, 0},
		"to the last byte of a page": {page(1, pg.BlockSize-40, 40, 24), 1, 16},
	} {
		row, ok, err := insert(c.block, uint16(c.offset))
		require.NoError(t, err, what)
		assert.True(t, ok, what)
		assert.Len(t, row, c.length, what)
	}
	sound := Block{Data: data(uint32(0), uint8(23), "x")}
	for what, r := range map[string]Record{
		"another manager": {Manager: ManagerHeap2, Blocks: []Block{sound}}, "another operation": {Manager: ManagerHeap, Info: 0x10,
			Blocks: []Block{sound}}, "no page": {Manager: ManagerHeap},
	} {
		_, ok, err := InsertedRow(&r, v)
		assert.False(t, ok, what)
		assert.NoError(t, err, what)
	}
}

// TestAsManyBlocksAsThereCanBe reads records with 33 references to pages, the same reader several of them.
func TestAsManyBlocksAsThereCanBe(t *testing.T) {
	body := func(blocks int) (b []byte) {
		for id := range blocks {
			flags := uint8(blockSameRel)
			if id == 0 {
				flags = 0
			}
			if id%2 == 1 {
				flags |= blockWillInit
			}
			b = append(b, byte(id), flags, 0, 0)
			if id == 0 {
				b = append(b, data(uint32(1663), uint32(5), uint32(16385))...)
			}
			b = append(b, data(uint32(100+id))...)
		}
		return b
	}
	w := newWriter(1 << 20)
	for range 3 {
		w.raw(Manager(10), 0, 5, body(maxBlockID+1))
	}
	r := reader(w.out, w.start)
	for range 3 {
		rec, err := r.Next()
		require.NoError(t, err)
		require.Len(t, rec.Blocks, maxBlockID+1)
		for id, b := range rec.Blocks {
			assert.EqualValues(t, 100+id, b.Number)
			assert.EqualValues(t, id, b.ID)
			assert.Equal(t, id%2 == 1, b.WillInit)
		}
	}
	many := newWriter(1 << 20)
	many.raw(Manager(10), 0, 5, append(body(maxBlockID+1), 32, blockSameRel, 0, 0, 1, 0, 0, 0))
	_, err := reader(many.out, many.start).Next()
	assert.ErrorContains(t, err, "too many block references")
	unknown := newWriter(1 << 20)
	unknown.raw(Manager(10), 0, 5, []byte{33, 0, 0, 0, 1, 0, 0, 0})
	_, err = reader(unknown.out, unknown.start).Next()
	assert.ErrorContains(t, err, "unknown header id 33")
}

// TestEdgesOfPages begins to read where records end with pages, where a page is cut after its header, and where a
// source fails.
func TestEdgesOfPages(t *testing.T) {
	w := newWriter(1 << 20)
	// to the last byte of the second page
	w.record(Manager(10), 0, 3, make([]byte, (PageSize-longHeader)+(PageSize-shortHeader)-recordHeader-5))
	require.Zero(t, len(w.out)%PageSize)
	second := w.record(Manager(10), 0, 4, make([]byte, 100))
	options := func(at, from pg.LSN) Options {
		return Options{Start: at, SegmentSize: 1 << 20, SystemID: testSystem, From: from}
	}
	page := w.start + PageSize
	for what, from := range map[string]pg.LSN{"from nowhere": 0, "from the page": page} {
		r := NewReader(bytes.NewReader(w.out[PageSize:]), options(page, from))
		rec, err := r.Next()
		require.NoError(t, err, what)
		assert.Equal(t, second, rec.Start, "%s: what goes on there is passed over", what)
	}
	for from, at := range map[pg.LSN]pg.LSN{0: page, page: page, page + 24: page + 24, page + PageSize - 8: page + PageSize - 8,
		page + PageSize: page} {
		assert.Equal(t, at, NewReader(bytes.NewReader(nil), options(page, from)).Position(), from)
	}

	broken := errors.New("the disk is broken")
	_, err := NewReader(iotest.ErrReader(broken), options(w.start, 0)).Next()
	require.ErrorIs(t, err, broken)
	_, err = NewReader(io.MultiReader(bytes.NewReader(w.out[:PageSize]), iotest.ErrReader(broken)), options(w.start, 0)).Next()
	require.ErrorIs(t, err, broken, "it is not the end of the WAL")

	next := w.start + 2*PageSize
	for length, position := range map[int]pg.LSN{shortHeader: next + shortHeader, shortHeader - 1: next, 0: next} {
		r := NewReader(bytes.NewReader(w.out[2*PageSize:2*PageSize+length]), options(next, 0))
		_, err = r.Next()
		require.ErrorIs(t, err, io.EOF, length)
		assert.Equal(t, position, r.Position(), length)
	}
	for length, ok := range map[int]bool{longHeader - 1: false, longHeader: true} {
		_, err := parsePage(w.out[:length], w.start)
		assert.Equal(t, ok, err == nil, length)
	}
	for length, ok := range map[int]bool{shortHeader - 1: false, shortHeader: true} {
		_, err := parsePage(w.out[PageSize:PageSize+length], page)
		assert.Equal(t, ok, err == nil, length)
	}
	for at, end := range map[pg.LSN]pg.LSN{page: page, page + shortHeader: page, page + longHeader: page + longHeader,
		page + 100: page + 100,
		w.start:    w.start, w.start + longHeader: w.start, w.start + shortHeader: w.start + shortHeader} {
		assert.Equal(t, end, EndBefore(at, 1<<20), at)
	}
}
