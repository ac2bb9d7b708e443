package wal

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
)

// TestReadInPieces holds a reader that is given the log as it grows, cut anywhere, against one
// that reads it at once.
func TestReadInPieces(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := newWriter(1 << 20)
		lengths := rapid.SliceOfN(rapid.OneOf(rapid.IntRange(0, 400), rapid.IntRange(7000, 40_000), rapid.IntRange(300_000, 1_500_000)), 1,
			12).Draw(t, "lengths")
		for i, n := range lengths {
			w.record(ManagerHeap, 0x20, pg.XID(i+3), bytes.Repeat([]byte("tide"), n/4))
			if rapid.IntRange(0, 9).Draw(t, "switch") == 0 {
				w.switchSegment()
			}
		}
		whole, err := readAll(reader(w.out, w.start))
		require.ErrorIs(t, err, io.EOF)

		var pieces []pg.LSN
		r := reader(nil, w.start)
		for end := 0; end < len(w.out); {
			end = min(len(w.out), end+rapid.IntRange(1, len(w.out)/3+1).Draw(t, "more"))
			from := int(r.Needs() - w.start)
			if from > end {
				continue // the rest of a segment after a switch is not needed
			}
			require.Zero(t, from%PageSize)
			r.Resume(bytes.NewReader(w.out[from:end]))
			got, err := readAll(r)
			require.ErrorIs(t, err, io.EOF)
			pieces = append(pieces, got...)
		}
		require.Equal(t, whole, pieces)
	})
}

// TestLongRecords reads records of many megabytes: they are verified to their last byte, and of
// those that only a user has made long little is kept.
func TestLongRecords(t *testing.T) {
	const logicalMessage, size = Manager(21), 40 << 20
	w := newWriter(1 << 20)
	w.record(logicalMessage, 0, 7, bytes.Repeat([]byte("tide"), size/4))
	info, main := commitData(1, make([]pg.XID, 100_000)...)
	w.record(ManagerTransaction, info, 7, main)
	r := reader(w.out, w.start)
	long, err := r.Next()
	require.NoError(t, err)
	assert.True(t, long.Cut)
	assert.EqualValues(t, size+recordHeader+5, long.Length)
	assert.Less(t, len(long.Main), keptHead)
	assert.LessOrEqual(t, cap(r.cross.kept), 2*keptHead)
	commit, err := r.Next()
	require.NoError(t, err)
	end, ok, err := EndOf(commit, pg.Major(15))
	require.NoError(t, err)
	assert.True(t, ok && !commit.Cut && len(end.Subxacts) == 100_000, "what the journal needs is all there")

	for _, at := range []int{len(w.out) / 2, len(w.out) - len(main) - 2*PageSize} {
		w.out[at] ^= 1
		_, err = readAll(reader(w.out, w.start))
		var d *Damage
		require.True(t, errors.As(err, &d), "%v", err)
		w.out[at] ^= 1
	}
}
