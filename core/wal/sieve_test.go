package wal

import (
	"bytes"
	"encoding/binary"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
)

// blockBody is a record's body about one block of a relation, with data of that block and main data.
func blockBody(r RelationRef, data, main []byte) []byte {
	b := []byte{0, blockHasData, 0, 0}
	binary.LittleEndian.PutUint16(b[2:], uint16(len(data)))
	for _, n := range []uint32{r.Space, r.Database, r.Filenode, 7} {
		b = binary.LittleEndian.AppendUint32(b, n)
	}
	b = append(b, idMainLong)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(main)))
	return append(append(b, data...), main...)
}

// What a Sieve passes on is read as the same records at the same places, of which those about lacking files do nothing.
func TestSieve(t *testing.T) {
	here, lacking := RelationRef{1663, 5, 16384}, RelationRef{1663, 5, 16400}
	rapid.Check(t, func(t *rapid.T) {
		w := newWriter(32 << 20)
		w.size = pg.SegmentSize(PageSize << rapid.IntRange(0, 2).Draw(t, "pages"))
		for range rapid.IntRange(1, 60).Draw(t, "records") {
			fill := func(n int) []byte { return bytes.Repeat([]byte{byte(n)}, n) }
			length := rapid.OneOf(rapid.IntRange(0, 300), rapid.IntRange(0, 20_000)).Draw(t, "length")
			switch rapid.IntRange(0, 3).Draw(t, "kind") {
			case 0:
				w.raw(ManagerHeap, 0, 9, blockBody(here, fill(length), fill(3)))
			case 1:
				w.record(ManagerStandby, standbyLock, 9, binary.LittleEndian.AppendUint32(nil, 0))
			default:
				w.raw(ManagerHeap, 0, 9, blockBody(lacking, fill(length), fill(rapid.IntRange(0, 300).Draw(t, "main"))))
			}
		}
		for len(w.out)%int(w.size) != 0 {
			w.out = append(w.out, 0)
		}
		s := Sieve{Lacks: func(r RelationRef) bool { return r == lacking }, SegmentSize: w.size, SystemID: testSystem}
		var out bytes.Buffer
		var carry []byte
		for at := 0; at < len(w.out); at += int(w.size) {
			end := at + int(w.size)
			next, err := s.Segment(&out, w.start+pg.LSN(at), bytes.NewReader(w.out[at:end]), bytes.NewReader(w.out[end:]), carry)
			require.NoError(t, err)
			require.Equal(t, end, out.Len(), "each segment is passed on whole")
			carry = next
		}
		is, was := NewReader(&out, Options{Start: w.start, SegmentSize: w.size}), NewReader(bytes.NewReader(w.out),
			Options{Start: w.start, SegmentSize: w.size})
		for {
			old, failed := was.Next()
			r, err := is.Next()
			if failed != nil {
				require.Equal(t, failed, err, "it ends where it did")
				return
			}
			require.NoError(t, err)
			require.Equal(t, []any{old.Start, old.End, old.Prev, old.XID, old.Length}, []any{r.Start, r.End, r.Prev, r.XID, r.Length})
			if len(old.Blocks) > 0 && old.Blocks[0].Relation() == here {
				require.Equal(t, *old, *r)
				continue
			}
			require.Empty(t, r.Blocks)
			require.Equal(t, []any{ManagerXLOG, uint8(xlogNoop)}, []any{r.Manager, r.Info})
		}
	})
}

func TestSieveRefuses(t *testing.T) {
	s := Sieve{Lacks: func(r RelationRef) bool { return r.Filenode == 16400 }, SegmentSize: 1 << 20}
	two := blockBody(RelationRef{1663, 5, 16400}, nil, nil)
	second := append([]byte{1, 0, 0, 0}, blockBody(RelationRef{1663, 5, 16384}, nil, nil)[4:]...)
	copied := binary.LittleEndian.AppendUint32(nil, 77)
	for name, write := range map[string]func(*writer){
		"two relations": func(w *writer) {
			w.raw(ManagerHeap, 0, 9, append(append([]byte{0, 0, 0, 0}, two[4:len(two)-5]...), second...))
		},
		"an extension's": func(w *writer) { w.raw(128, 0, 9, two) },
		"copied files":   func(w *writer) { w.record(ManagerDatabase, dbCreateFileCopy, 9, append(copied, make([]byte, 12)...)) },
	} {
		w := newWriter(32 << 20)
		write(w)
		w.out = append(w.out, make([]byte, int(w.size)-len(w.out))...)
		_, err := s.Segment(io.Discard, w.start, bytes.NewReader(w.out), bytes.NewReader(nil), nil)
		require.ErrorIs(t, err, ErrSieve, name)
	}
}
