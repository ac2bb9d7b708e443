package feed

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"velvetrewind/core/partial"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// WhyFile, in a feed, says why the WAL of a partial copy cannot be given to it; else there is none.
const WhyFile = "why"

// sift writes a segment for a partial copy, in which what is about files that it lacks does nothing. Beside the feed it notes how
// the record goes on that crosses into the next segment.
func (t Ticket) sift(ctx context.Context, name string, content io.Reader, to string) error {
	segment, err := pg.ParseSegmentName(name, t.Size)
	if err != nil {
		return err
	}
	err = put(to, func(f *os.File) error {
		carried, err := t.carried(ctx, segment)
		if err != nil {
			return err
		}
		by, err := t.sifter()
		if err != nil {
			return err
		}
		carry, err := by.sieve(ctx, segment, content, f, carried)
		if err != nil {
			return err
		}
		return put(t.carry(next(segment)), func(f *os.File) error {
			_, err := f.Write(carry)
			return err
		})
	})
	if errors.Is(err, wal.ErrSieve) {
		err = errors.Join(err, os.WriteFile(filepath.Join(t.Feed, WhyFile), []byte(err.Error()), 0o600))
	}
	return err
}

// behind is how many segments a server keeps of those that it was given: the record that it stands at may begin in an earlier one.
const behind = 4

// drop removes a segment from the directory of a partial copy's WAL that was replayed long since, so that the copy does not hold all
// that it ever replayed. Were it asked for again, it would be delivered again. A copy that may be opened has to keep what it has: after
// a crash it recovers from that alone.
func (t Ticket) drop(name, dir string) error {
	s, err := pg.ParseSegmentName(name, t.Size)
	if err != nil || s.Number < behind {
		return nil
	}
	s.Number -= behind
	if err := os.Remove(filepath.Join(dir, s.Name(t.Size))); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

func next(s pg.Segment) pg.Segment {
	s.Number++
	return s
}

// carry is the file that says how a record goes on that crosses into a segment.
func (t Ticket) carry(s pg.Segment) string { return filepath.Join(t.Feed, carryName(s.Name(t.Size))) }

func carryName(segment string) string { return "carry-" + segment }

// carried is how the record goes on that crosses into a segment, where that is changed. If it was not noted, the segment before is
// looked through once more. Into the first segment nothing crosses that is replayed.
func (t Ticket) carried(ctx context.Context, s pg.Segment) ([]byte, error) {
	noted, err := os.ReadFile(t.carry(s))
	if !errors.Is(err, os.ErrNotExist) {
		return noted, err
	}
	if s.Number <= t.Part.First {
		return nil, nil
	}
	s.Number--
	before, err := t.open(ctx, s.Name(t.Size))
	if err != nil {
		return nil, err
	}
	defer func() { _ = before.Close() }()
	by, err := t.sifter()
	if err != nil {
		return nil, err
	}
	return by.sieve(ctx, s, before, io.Discard, nil)
}

func (t Ticket) sifter() (sifter, error) {
	written, err := os.ReadFile(t.Part.Lacks)
	if err != nil {
		return sifter{}, err
	}
	lacks, err := partial.Read(written)
	return sifter{size: t.Size, part: *t.Part, lacks: lacks, open: t.open, control: func() ([]byte, error) {
		return os.ReadFile(t.Part.Control)
	}}, err
}

// sifter sieves the segments of a partial copy, wherever they are and its control file.
type sifter struct {
	size    pg.SegmentSize
	part    Part
	lacks   partial.Lacks
	open    func(ctx context.Context, name string) (io.ReadCloser, error)
	control func() ([]byte, error)
}

func (f sifter) sieve(ctx context.Context, s pg.Segment, content io.Reader, to io.Writer, carried []byte) ([]byte, error) {
	began, err := f.began()
	if err != nil {
		return nil, err
	}
	following := &later{open: func() (io.ReadCloser, error) { return f.open(ctx, next(s).Name(f.size)) }}
	defer following.close()
	size := int64(f.size)
	whole := io.LimitReader(io.MultiReader(content, zeroes{}), size) // the rest of a cut segment is zero
	return wal.Sieve{Lacks: f.lacks.Has, Keep: append(began, f.part.Keep...), SegmentSize: f.size, SystemID: f.part.SystemID}.Segment(
		to, f.size.Start(s.Number), whole, following, carried)
}

// began is where a server that was started on the copy as it is now began: at the last checkpoint that it has taken over from the
// WAL, for which it wrote its control file anew.
func (f sifter) began() ([]pg.LSN, error) {
	for tries := 0; ; tries++ {
		b, err := f.control()
		if err != nil {
			return nil, err
		}
		c, err := pg.ParseControl(b)
		if err == nil {
			return []pg.LSN{c.Redo, c.Checkpoint}, nil
		}
		if tries == 10 {
			return nil, fmt.Errorf("%s: %w", f.part.Control, err)
		}
		time.Sleep(10 * time.Millisecond) // the server may have been writing it
	}
}

type zeroes struct{}

func (zeroes) Read(b []byte) (int, error) {
	clear(b)
	return len(b), nil
}

// later is a segment that is opened when it is first read from; one that does not exist is empty.
type later struct {
	open    func() (io.ReadCloser, error)
	content io.ReadCloser
}

func (l *later) Read(b []byte) (int, error) {
	if l.content == nil {
		content, err := l.open()
		if errors.Is(err, ErrNoSuchSegment) {
			return 0, io.EOF
		}
		if err != nil {
			return 0, err
		}
		l.content = content
	}
	return l.content.Read(b)
}

func (l *later) close() {
	if l.content != nil {
		_ = l.content.Close()
	}
}
