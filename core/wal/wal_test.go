package wal

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
)

func reader(b []byte, start pg.LSN) *Reader {
	return NewReader(bytes.NewReader(b), Options{Start: start, SegmentSize: 1 << 20, SystemID: testSystem})
}

// readAll reads to the end and returns where records began, and the error at the end.
func readAll(r *Reader) (starts []pg.LSN, err error) {
	for {
		rec, err := r.Next()
		if err != nil {
			return starts, err
		}
		starts = append(starts, rec.Start)
	}
}

func TestEveryRecordIsRead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := newWriter(pg.LSN(rapid.IntRange(1, 5).Draw(t, "segment")) << 20)
		lengths := rapid.SliceOfN(rapid.OneOf(rapid.IntRange(0, 400), rapid.IntRange(7000, 40_000)), 1, 80).Draw(t, "lengths")
		var starts []pg.LSN
		content := bytes.Repeat([]byte("tide"), 10_000)
		for i, n := range lengths {
			starts = append(starts, w.record(Manager(10), 0x20, pg.XID(i+3), content[:n]))
			if i%31 == 30 {
				w.switchSegment()
				starts = append(starts, w.prev)
			}
		}
		r := reader(w.out, w.start)
		for i := range starts {
			rec, err := r.Next()
			require.NoError(t, err, "record %d", i)
			require.Equal(t, starts[i], rec.Start)
			if rec.Manager == 10 {
				require.True(t, bytes.HasPrefix(content, rec.Main))
			}
			if i+1 < len(starts) {
				require.LessOrEqual(t, rec.End, starts[i+1])
			}
		}
		_, err := r.Next()
		require.ErrorIs(t, err, io.EOF)
		// From a later page on, the reader finds its place again.
		skip := rapid.IntRange(0, len(w.out)/PageSize).Draw(t, "pages") * PageSize
		later, err := readAll(reader(w.out[skip:], w.start+pg.LSN(skip)))
		if errors.Is(err, ErrUnwritten) { // in the unused rest of a segment
			require.Empty(t, later)
			return
		}
		require.ErrorIs(t, err, io.EOF)
		require.Equal(t, starts[len(starts)-len(later):], append([]pg.LSN{}, later...))
	})
}

// A record may end on a page of which little more than the header is there yet.
func TestARecordThatEndsJustBehindAPageHeader(t *testing.T) {
	w := newWriter(1 << 20)
	w.record(10, 0, 3, nil)
	room := PageSize - len(w.out)
	w.record(10, 0, 4, make([]byte, room-recordHeader-5+8)) // 8 bytes too long
	require.Equal(t, PageSize+shortHeader+8, len(w.out))
	starts, err := readAll(reader(w.out, w.start))
	require.ErrorIs(t, err, io.EOF)
	require.Len(t, starts, 2)
}

// A log that begins in the middle of a record goes on where that ends, also if only padding is left of its page then.
func TestTheRestOfARecordFillsItsPage(t *testing.T) {
	for _, padding := range []int{0, 3, 7} {
		w := newWriter(1 << 20)
		w.record(10, 0, 3, make([]byte, PageSize-longHeader+PageSize-shortHeader-padding-recordHeader-5))
		require.Equal(t, 2*PageSize, len(w.out))
		second := w.record(10, 0, 4, nil)
		starts, err := readAll(reader(w.out[PageSize:], w.start+PageSize))
		require.ErrorIs(t, err, io.EOF)
		require.Equal(t, []pg.LSN{second}, starts, padding)
	}
}

func TestDamageIsNeverReadAsRecords(t *testing.T) {
	w := newWriter(1 << 20)
	for i := range 300 {
		w.record(Manager(10), 0, pg.XID(i+3), bytes.Repeat([]byte{byte(i)}, 100+i*7))
	}
	sound, err := readAll(reader(w.out, w.start))
	require.ErrorIs(t, err, io.EOF)
	require.Len(t, sound, 300)
	rapid.Check(t, func(t *rapid.T) {
		b := bytes.Clone(w.out)
		at := rapid.IntRange(0, len(b)-1).Draw(t, "byte")
		b[at] ^= byte(1 << rapid.IntRange(0, 7).Draw(t, "bit"))
		got, err := readAll(reader(b, w.start))
		require.Error(t, err)
		require.Equal(t, sound[:len(got)], append([]pg.LSN{}, got...), "only records of the undamaged log, in order")
		var d *Damage
		if len(got) < len(sound) && errors.As(err, &d) {
			require.NotEmpty(t, d.Reason)
		}
	})
}

func TestForeignAndOldSegmentsAreRefused(t *testing.T) {
	w := newWriter(1 << 20)
	w.record(Manager(10), 0, 3, nil)
	for name, c := range map[string]struct {
		change func([]byte)
		says   string
	}{
		"another cluster":      {func(b []byte) { binary.LittleEndian.PutUint64(b[24:], 7) }, "belongs to the cluster"},
		"another place":        {func(b []byte) { binary.LittleEndian.PutUint64(b[8:], 7<<20) }, "belongs at"},
		"an unknown version":   {func(b []byte) { binary.LittleEndian.PutUint16(b, 0xD071) }, "magic D071"},
		"another segment size": {func(b []byte) { binary.LittleEndian.PutUint32(b[32:], 16<<20) }, "16777216"},
		"no long header":       {func(b []byte) { b[2] &^= flagLongHeader }, "long header"},
	} {
		b := bytes.Clone(w.out)
		c.change(b)
		_, err := readAll(reader(b, w.start))
		var d *Damage
		require.ErrorAs(t, err, &d, name)
		assert.Contains(t, d.Error(), c.says, name)
	}
	_, err := readAll(reader(make([]byte, 1<<20), 1<<20))
	assert.ErrorIs(t, err, ErrUnwritten)
}

func TestEndsOfTransactions(t *testing.T) {
	w := newWriter(1 << 20)
	info, main := commitData(1000, 11, 12)
	w.record(ManagerTransaction, xactCommit|info, 10, main)
	_, abort := commitData(2000)
	w.record(ManagerTransaction, xactAbort, 20, abort)
	w.record(ManagerTransaction, xactPrepare, 30, []byte("whatever"))
	prepared := binary.LittleEndian.AppendUint64(nil, 3000)
	prepared = binary.LittleEndian.AppendUint32(prepared, xinfoTwoPhase|xinfoGID|xinfoDatabase|xinfoRelations|xinfoInvalidation)
	prepared = binary.LittleEndian.AppendUint32(prepared, 5)    // database
	prepared = binary.LittleEndian.AppendUint32(prepared, 1663) // tablespace
	prepared = binary.LittleEndian.AppendUint32(prepared, 1)
	for _, v := range []uint32{1663, 5, 16385} {
		prepared = binary.LittleEndian.AppendUint32(prepared, v)
	}
	prepared = binary.LittleEndian.AppendUint32(prepared, 1)
	prepared = append(prepared, make([]byte, 16)...)
	prepared = binary.LittleEndian.AppendUint32(prepared, 30)
	prepared = append(prepared, "tide\x00"...)
	w.record(ManagerTransaction, xactCommitPrepared|xactHasInfo, 0, prepared)
	w.record(ManagerTransaction, xactCommit|xactHasInfo, 40, main[:13])

	r := reader(w.out, w.start)
	next := func() (End, bool, error) {
		rec, err := r.Next()
		require.NoError(t, err)
		return EndOf(rec, r.Version())
	}
	end, ok, err := next()
	require.NoError(t, err)
	assert.True(t, ok && end.Committed)
	assert.Equal(t, End{XID: 10, Committed: true, Time: pg.Timestamp(1000), Subxacts: []pg.XID{11, 12}}, end)
	end, ok, _ = next()
	assert.True(t, ok && !end.Committed)
	_, ok, _ = next()
	assert.False(t, ok, "a prepared transaction has not ended")
	end, ok, err = next()
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, End{XID: 30, Committed: true, TwoPhase: true, Time: pg.Timestamp(3000), Database: 5,
		Dropped: []RelationRef{{1663, 5, 16385}}, GID: "tide"}, end)
	_, _, err = next()
	assert.ErrorContains(t, err, "ends within its fields")
	assert.Equal(t, "Transaction", ManagerTransaction.String())
	assert.Equal(t, "Manager99", Manager(99).String())
}

func TestBlockReferences(t *testing.T) {
	body := []byte{0, blockHasData | blockHasImage, 3, 0, 0, 32, 100, 0, imageHasHole}
	for _, v := range []uint32{1663, 5, 16385, 77} {
		body = binary.LittleEndian.AppendUint32(body, v)
	}
	body = append(body, 1, blockSameRel|1, 0, 0, 78, 0, 0, 0, idOrigin, 9, 0, idTopXID, 3, 1, 0, 0, idMainShort, 2)
	image := bytes.Repeat([]byte{7}, 8192)
	body = append(append(append(body, image...), "dat"...), "mm"...)
	w := newWriter(1 << 20)
	w.raw(Manager(10), 0, 5, body)
	rec, err := reader(w.out, w.start).Next()
	require.NoError(t, err)
	require.Len(t, rec.Blocks, 2)
	assert.Equal(t, uint32(77), rec.Blocks[0].Number)
	assert.Equal(t, image, rec.Blocks[0].Image)
	assert.Equal(t, "dat", string(rec.Blocks[0].Data))
	assert.Equal(t, uint32(16385), rec.Blocks[1].Filenode, "of the same relation")
	assert.Equal(t, uint16(9), rec.Origin)
	assert.Equal(t, pg.XID(259), rec.TopXID)
	assert.Equal(t, "mm", string(rec.Main))
	bad := newWriter(1 << 20)
	bad.raw(Manager(10), 0, 5, body[:len(body)-1])
	_, err = reader(bad.out, bad.start).Next()
	assert.ErrorContains(t, err, "announce")
}

// FuzzReader feeds the reader any bytes: it must not panic, nor hold more than they are.
func FuzzReader(f *testing.F) {
	w := newWriter(1 << 20)
	info, main := commitData(1000, 11)
	w.record(ManagerTransaction, info, 10, main)
	w.record(Manager(10), 0, 11, make([]byte, 9000))
	f.Add(w.out)
	f.Fuzz(func(t *testing.T, b []byte) {
		r := reader(b, 1<<20)
		for {
			rec, err := r.Next()
			if err != nil {
				return
			}
			_, _, _ = EndOf(rec, r.Version())
			if held := cap(r.cross.kept) + cap(r.rec.Blocks)*64; held > 4*len(b)+4096 {
				t.Fatalf("%d bytes are held of %d", held, len(b))
			}
		}
	})
}
