// Package remains reads the WAL that a server which is down has left in its own data directory: what it wrote last, and nobody
// received.
//
// Invariant: nothing in the directory is changed. Nothing is handed out of it while a process works there, before it is safe on the
// server's own disk, or beyond the last whole record; and only what goes on where captured WAL ends, byte for byte.
package remains

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/host"
)

// ErrRuns says that a process works in the directory: the server tells of its WAL itself, or will.
var ErrRuns = errors.New("a process works in it")

// ErrOther says that the directory holds other WAL than was captured.
var ErrOther = errors.New("its WAL is another than was captured")

// WAL is what is left in a directory. Close it.
type WAL struct {
	Control pg.Control

	machine host.Machine
	dir     string
	files   host.Files
	z       pg.SegmentSize
}

// Open looks into the data directory of a cluster on a machine. The error is ErrRuns where its server is not down, and
// host.ErrGone where there is none.
func Open(m host.Machine, dir string, systemID uint64, z pg.SegmentSize) (*WAL, error) {
	o, err := m.Inspect(dir, systemID)
	if err != nil {
		return nil, err
	}
	if o.Running {
		return nil, ErrRuns
	}
	w := &WAL{machine: m, dir: dir, z: z}
	if err := w.idle(); err != nil {
		return nil, err
	}
	if w.Control, err = m.Control(o.User, dir); err != nil {
		return nil, err
	}
	own, err := m.Under(o.User)
	if err != nil {
		return nil, err
	}
	w.files, err = own.Files(dir)
	return w, err
}

// idle makes sure that no process works in the directory.
func (w *WAL) idle() error {
	works, err := w.machine.WorkedIn(w.dir)
	if err == nil && works {
		err = ErrRuns
	}
	return err
}

// Close closes the directory.
func (w *WAL) Close() error { return w.files.Close() }

// End is where the last whole record ends of what goes on at an LSN of a timeline, which is that LSN where nothing does. captured,
// if not nil, gives what was captured of the segment in which the byte before it lies, from its beginning: it must be the same.
func (w *WAL) End(ctx context.Context, t pg.Timeline, from pg.LSN, captured io.Reader) (pg.LSN, error) {
	seg := pg.Segment{Timeline: t, Number: w.z.Number(from - 1)}
	start := w.z.Start(seg.Number)
	first, err := w.open(seg)
	if errors.Is(err, fs.ErrNotExist) && captured == nil && from == w.z.Start(seg.Number+1) { // it may have the next all the same
		seg.Number++
		start = from
		first, err = w.open(seg)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return from, nil // it has recycled it, which it does with what was received
	}
	if err != nil {
		return 0, err
	}
	same := true
	if captured != nil {
		same, err = equal(captured, io.LimitReader(first, int64(from-start)))
	}
	if err := errors.Join(err, first.Close()); err != nil {
		return 0, err
	}
	if !same {
		return 0, ErrOther
	}
	src := &files{wal: w, next: seg}
	defer src.close()
	records := wal.NewReader(src, wal.Options{Start: start, SegmentSize: w.z})
	for ctx.Err() == nil {
		_, err := records.Next()
		if damage := (*wal.Damage)(nil); errors.Is(err, io.EOF) || errors.Is(err, wal.ErrUnwritten) || errors.As(err, &damage) {
			return max(from, records.Position()), nil
		}
		if err != nil {
			return 0, err
		}
	}
	return 0, context.Cause(ctx)
}

// Has tells whether a whole file of a segment is there.
func (w *WAL) Has(seg pg.Segment) bool {
	is, err := w.files.Look("pg_wal/" + seg.Name(w.z))
	return err == nil && is.Size == int64(w.z)
}

// chunk is how much is handed out at once.
const chunk = 256 << 10

// Take hands out what lies between two places, in order.
func (w *WAL) Take(ctx context.Context, t pg.Timeline, from, to pg.LSN, take func(at pg.LSN, b []byte) error) error {
	buf := make([]byte, chunk)
	for at := from; at < to; {
		seg := pg.Segment{Timeline: t, Number: w.z.Number(at)}
		f, err := w.open(seg)
		if err != nil {
			return err
		}
		end := min(to, w.z.Start(seg.Number+1))
		for at < end && err == nil {
			b := buf[:min(chunk, int(end-at))]
			if _, err = f.ReadAt(b, w.z.Offset(at)); err != nil {
				break
			}
			if err = ctx.Err(); err == nil {
				err = w.idle()
			}
			if err == nil {
				err = take(at, b)
				at += pg.LSN(len(b))
			}
		}
		if err := errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// open opens a segment, of which everything is on disk then.
func (w *WAL) open(seg pg.Segment) (host.File, error) {
	name := "pg_wal/" + seg.Name(w.z)
	if is, err := w.files.Look(name); err != nil || is.Size != int64(w.z) {
		return nil, errors.Join(err, fmt.Errorf("%s is no whole file: %w", name, fs.ErrNotExist))
	}
	f, err := w.files.Open(name)
	if err != nil {
		return nil, err
	}
	if err := f.Sync(); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// equal tells whether two streams have the same bytes, and as many.
func equal(a, b io.Reader) (bool, error) {
	x, y := make([]byte, chunk), make([]byte, chunk)
	for {
		n, errA := io.ReadFull(a, x)
		m, errB := io.ReadFull(b, y)
		ended := func(err error) bool { return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) }
		switch {
		case errA != nil && !ended(errA):
			return false, errA
		case errB != nil && !ended(errB):
			return false, errB
		case !bytes.Equal(x[:n], y[:m]):
			return false, nil
		case errA != nil || errB != nil:
			return errA != nil && errB != nil, nil
		}
	}
}

// files reads segments one after the other, as long as there are any.
type files struct {
	wal  *WAL
	next pg.Segment
	file host.File
}

func (f *files) Read(b []byte) (int, error) {
	for {
		if f.file == nil {
			file, err := f.wal.open(f.next)
			if errors.Is(err, fs.ErrNotExist) {
				return 0, io.EOF
			}
			if err != nil {
				return 0, err
			}
			f.file = file
			f.next.Number++
		}
		n, err := f.file.Read(b)
		if n > 0 || err != nil && !errors.Is(err, io.EOF) {
			return n, err
		}
		f.close()
	}
}

func (f *files) close() {
	if f.file != nil {
		_ = f.file.Close()
		f.file = nil
	}
}
