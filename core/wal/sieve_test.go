package wal

import (
	"bytes"
	"encoding/binary"
	"io"
	"slices"
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

// What a Sieve passes on is read as the same records at the same places, but that those about lacking files do nothing, and up to the
// last of several such that follow each other are one; none goes up into one where a server may begin or end.
func TestSieve(t *testing.T) {
	here, lacking := RelationRef{1663, 5, 16384}, RelationRef{1663, 5, 16400}
	rapid.Check(t, func(t *rapid.T) {
		w := newWriter(32 << 20)
		w.size = pg.SegmentSize(PageSize << rapid.IntRange(0, 2).Draw(t, "pages"))
		s := Sieve{Lacks: func(r RelationRef) bool { return r == lacking }, SegmentSize: w.size, SystemID: testSystem}
		for range rapid.IntRange(1, 60).Draw(t, "records") {
			fill := func(n int) []byte { return bytes.Repeat([]byte{byte(n)}, n) }
			length := rapid.OneOf(rapid.IntRange(0, 300), rapid.IntRange(0, 20_000)).Draw(t, "length")
			xid, start := pg.XID(rapid.IntRange(0, 3).Draw(t, "xid")), pg.LSN(0)
			switch rapid.IntRange(0, 3).Draw(t, "kind") {
			case 0:
				start = w.raw(ManagerHeap, 0, xid, blockBody(here, fill(length), fill(3)))
			case 1:
				start = w.record(ManagerStandby, standbyLock, xid, binary.LittleEndian.AppendUint32(nil, 0))
			default:
				start = w.raw(ManagerHeap, 0, xid, blockBody(lacking, fill(length), fill(rapid.IntRange(0, 300).Draw(t, "main"))))
			}
			if rapid.IntRange(0, 9).Draw(t, "keep") == 0 {
				s.Keep = append(s.Keep, start)
			}
		}
		for len(w.out)%int(w.size) != 0 {
			w.out = append(w.out, 0)
		}
		var out bytes.Buffer
		var carry []byte
		for at := 0; at < len(w.out); at += int(w.size) {
			end := at + int(w.size)
			next, err := s.Segment(&out, w.start+pg.LSN(at), bytes.NewReader(w.out[at:end]), bytes.NewReader(w.out[end:]), carry)
			require.NoError(t, err)
			require.Equal(t, end, out.Len(), "each segment is passed on whole")
			var alone bytes.Buffer // and what crosses into it written afterwards
			other, err := s.Segment(&alone, w.start+pg.LSN(at), bytes.NewReader(w.out[at:end]), bytes.NewReader(w.out[end:]), nil)
			require.NoError(t, err)
			require.Equal(t, next, other)
			copy(alone.Bytes()[CarriedAt:], carry)
			require.Equal(t, out.Bytes()[at:], alone.Bytes())
			carry = next
		}
		passedOn(t, w, s, &out)
	})
}

// passedOn reads what was passed on beside what it was made of.
func passedOn(t *rapid.T, w *writer, s Sieve, out io.Reader) {
	is, was := NewReader(out, Options{Start: w.start, SegmentSize: w.size}), NewReader(bytes.NewReader(w.out),
		Options{Start: w.start, SegmentSize: w.size})
	var run []Record // those of was that a run may stand for, without what they are about
	for {
		r, err := is.Next()
		if err != nil {
			_, failed := was.Next()
			require.Equal(t, failed, err, "it ends where it did")
			return
		}
		run = run[:0]
		for {
			old, err := was.Next()
			require.NoError(t, err)
			lost := old.Manager == ManagerStandby || s.Lacks(old.Blocks[0].Relation())
			if !lost {
				require.Equal(t, old, r)
				break
			}
			require.Equal(t, []any{ManagerXLOG, uint8(xlogNoop), 0}, []any{r.Manager, r.Info, len(r.Blocks)})
			run = append(run, Record{Start: old.Start, XID: old.XID, Prev: old.Prev})
			if old.End == r.End {
				break
			}
			require.Less(t, old.End, r.End)
		}
		stands(t, r, run, s.Keep)
	}
}

// stands makes sure that a no-operation says all that is needed of the records that it stands for.
func stands(t *rapid.T, r *Record, run []Record, keep []pg.LSN) {
	if len(run) == 0 {
		return
	}
	require.Equal(t, run[0].Start, r.Start)
	latest := pg.XID(0)
	for i, one := range run {
		latest = max(latest, one.XID)
		require.False(t, i > 0 && slices.Contains(keep, one.Start), "a server may begin at %s", one.Start)
	}
	require.Equal(t, latest, r.XID)
}

// Most of the records that follow each other become one.
func TestSieveJoins(t *testing.T) {
	lacking := RelationRef{1663, 5, 16400}
	w := newWriter(32 << 20)
	for len(w.out) < 1<<20-1000 {
		w.raw(ManagerHeap, 0, 9, blockBody(lacking, make([]byte, 40), nil))
	}
	w.out = append(w.out, make([]byte, int(w.size)-len(w.out))...)
	var out bytes.Buffer
	_, err := Sieve{Lacks: func(r RelationRef) bool { return r == lacking }, SegmentSize: w.size}.Segment(&out, w.start,
		bytes.NewReader(w.out), bytes.NewReader(nil), nil)
	require.NoError(t, err)
	records, r := 0, NewReader(&out, Options{Start: w.start, SegmentSize: w.size})
	for err == nil {
		_, err = r.Next()
		records++
	}
	require.ErrorIs(t, err, ErrUnwritten)
	require.Less(t, records, 12)
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
