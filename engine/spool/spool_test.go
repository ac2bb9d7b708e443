package spool

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/engine/host/disk"
)

// stream is the made-up WAL that a server would send: each byte follows from its place.
func stream(from, to pg.LSN) []byte {
	b := make([]byte, to-from)
	for i := range b {
		at := uint64(from) + uint64(i)
		b[i] = byte(at ^ at>>8 ^ at>>16 ^ at>>20)
	}
	return b
}

// TestSpoolAgainstAModel writes in random pieces, is interrupted at random places,
// with and without bytes that were never flushed, and goes on where the server's
// slot stands. What was reported flushed must all be there in the end.
func TestSpoolAgainstAModel(t *testing.T) {
	const size = pg.SegmentSize(1 << 20)
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "velvet-spool-")
		require.NoError(t, err)
		defer func() { _ = os.RemoveAll(dir) }()
		first := size.Start(3)
		at, reported := first, first // what the server has heard is safe
		s, err := Open(disk.OS, dir, size, 1<<30)
		require.NoError(t, err)
		s.Resume(1, first)
		for range rapid.IntRange(1, 15).Draw(t, "steps") {
			n := pg.LSN(rapid.IntRange(1, 300_000).Draw(t, "bytes"))
			_, err := s.Write(at, stream(at, at+n))
			require.NoError(t, err)
			at += n
			switch rapid.IntRange(0, 5).Draw(t, "then") {
			case 0, 1, 2:
				require.NoError(t, s.Flush())
				require.Equal(t, at, s.Flushed())
				reported = at
			case 3: // killed; the server heard of the last flush, or of an earlier one
				s.Close()
				if rapid.Bool().Draw(t, "power lost") {
					spoil(t, s, reported)
				}
				if s, err = Open(disk.OS, dir, size, 1<<30); err != nil {
					t.Fatal(err)
				}
				slot := max(first, reported-pg.LSN(rapid.IntRange(0, 1000).Draw(t, "unheard")))
				place, _, partial, err := s.Vouched(slot)
				require.NoError(t, err)
				if partial { // else the last segment was just finished, or nothing written
					at = place.LSN
				}
				s.Resume(1, at)
				reported = at
			}
		}
		require.NoError(t, s.Flush())
		s.Close()
		check(t, dir, size, first, at)
	})
}

// spoil changes the bytes after the flushed place, as a disk may after a power loss.
func spoil(t *rapid.T, s *Spool, flushed pg.LSN) {
	path := s.Path(pg.Segment{Timeline: 1, Number: s.size.Number(flushed)}) + partialSuffix
	info, err := os.Stat(path)
	if err != nil || info.Size() <= s.size.Offset(flushed) {
		return
	}
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(make([]byte, info.Size()-s.size.Offset(flushed)), s.size.Offset(flushed))
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// check reads the whole spool back and compares it with the stream.
func check(t *rapid.T, dir string, size pg.SegmentSize, from, to pg.LSN) {
	tails, err := Tails(filepath.Dir(dir), filepath.Base(dir), size)
	require.NoError(t, err)
	var got []byte
	next := size.Number(from)
	for _, tail := range tails {
		if tail.Partial && tail.End == size.Start(tail.Segment.Number) {
			continue // opened, and nothing came
		}
		require.Equal(t, next, tail.Segment.Number, "segments follow one another")
		next++
		content, err := os.ReadFile(tail.Path)
		require.NoError(t, err)
		got = append(got, content...)
	}
	// Behind the place may stand what an interrupted writer left; the next write drops it.
	require.GreaterOrEqual(t, len(got), int(to-from))
	require.True(t, bytes.Equal(stream(from, to), got[:to-from]))
}

func TestSpoolRefusesGaps(t *testing.T) {
	s, err := Open(disk.OS, t.TempDir(), 1<<20, 0)
	require.NoError(t, err)
	s.Resume(1, 3<<20)
	_, err = s.Write(3<<20+8, []byte("low"))
	assert.ErrorContains(t, err, "was next")
	s.Resume(1, 3<<20+100)
	_, err = s.Write(3<<20+100, []byte("low"))
	assert.ErrorContains(t, err, "shorter than expected")
	none, err := Tails(t.TempDir(), "nobody", 1<<20)
	require.NoError(t, err)
	assert.Empty(t, none)
}

// A tail that is finished after it was listed is still found: it is not in the store yet.
func TestTailFinishedSinceListed(t *testing.T) {
	const size = pg.SegmentSize(1 << 20)
	root := t.TempDir()
	s, err := Open(disk.OS, filepath.Join(root, "k"), size, 0)
	require.NoError(t, err)
	s.Resume(1, size.Start(3))
	_, err = s.Write(size.Start(3), stream(size.Start(3), size.Start(3)+100))
	require.NoError(t, err)
	tails, err := Tails(root, "k", size)
	require.NoError(t, err)
	require.Len(t, tails, 1)
	require.True(t, tails[0].Partial)
	_, err = s.Write(size.Start(3)+100, stream(size.Start(3)+100, size.Start(4)))
	require.NoError(t, err)
	f, err := tails[0].Open()
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, os.Remove(s.Path(tails[0].Segment)))
	_, err = tails[0].Open()
	assert.ErrorIs(t, err, os.ErrNotExist)
}
