package feed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"velvetrewind/core/partial"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/host"
)

// What lies in the directory of segments that are ready, beside them.
const (
	aheadDir   = "ahead" // with one of each start of the machine
	partSuffix = ".part" // of one that is being made ready
	inSuffix   = ".in"   // of a partial copy: how the record goes on that crosses into it
	outSuffix  = ".out"  // the same of the one after it
	atFile     = "at"    // the last segment that the server was given without waiting for it here
)

// Ahead makes segments ready that a copy's server will ask for, so that they need but be moved to where it wants them. Whether one is
// ready makes no difference to what the server is given: of a partial copy one is taken only if it goes on where the last one ended.
type Ahead struct {
	Ticket Ticket
	Files  host.Files // of the copy's directory
	Feed   string     // the feed in it
	// Open reads a segment, which is cut where it was not written further.
	Open     func(ctx context.Context, name string) (io.ReadCloser, error)
	Segments []pg.Segment // that the copy replays, in order
	// Of a partial copy: what it lacks, and its control file.
	Lacks   partial.Lacks
	Control string

	boot string
}

// AheadDir is where, in a feed, segments that are ready lie; see host.RestoreCommand.
func AheadDir(feed string) string { return filepath.Join(feed, aheadDir) }

// Bounds of what is ready at a time, beside the one that the server reads.
const (
	readyBytes    = 64 << 20
	readySegments = 4
)

// lookEvery is how often the directory is checked for segments that the server has taken.
const lookEvery = 10 * time.Millisecond

// Prepare makes the directory, before the server asks for anything, and notes since when the machine is up: what is ready the server
// takes without asking anybody.
func (a *Ahead) Prepare() (err error) {
	if a.boot, err = host.Boot(); err != nil {
		return err
	}
	return errors.Join(a.Files.MakeDir(AheadDir(a.Feed), 0o700), a.Files.MakeDir(a.dir(""), 0o700),
		a.note(filepath.Join(a.Feed, bootFile), []byte(a.boot)))
}

func (a *Ahead) dir(name string) string { return filepath.Join(AheadDir(a.Feed), a.boot, name) }

func (a *Ahead) name(s pg.Segment) string { return s.Name(a.Ticket.Size) }

// made is a segment that is being made ready, or was: all but what crosses into it.
type made struct {
	segment pg.Segment
	file    host.File
	carry   []byte // what crosses into the next one
	err     error
	done    chan struct{}
}

// Run makes segments ready until the last one is, ctx ends, or one cannot be: then whoever asks for it finds out why. To sieve one
// takes longer than a server does with what is left of it, so that three are at a time.
func (a *Ahead) Run(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	limit, atOnce := max(1, min(readySegments, readyBytes/int(a.Ticket.Size))), 1
	if a.Ticket.Part != nil {
		atOnce = min(limit, 3)
	}
	var ready []pg.Segment
	var under []*made
	defer func() {
		cancel()
		for _, m := range under {
			a.drop(m)
		}
	}()
	var carried []byte
	for left := a.Segments; len(left)+len(under) > 0; {
		at, err := a.at()
		if err != nil {
			return err
		}
		if ready, err = a.left(ready, at); err != nil {
			return err
		}
		stale := false // the server is further already
		for ; len(under) > 0 && after(at, under[0].segment); under, stale = under[1:], true {
			a.drop(under[0])
		}
		for ; len(left) > 0 && after(at, left[0]); left, stale = left[1:], true {
		}
		for ; len(left) > 0 && len(under) < atOnce && len(ready)+len(under) < limit; left = left[1:] {
			under = append(under, a.begin(ctx, left[0]))
		}
		if stale && len(under)+len(left) > 0 {
			next := slices.Concat(segments(under), left)[0]
			if carried, err = a.noted(ctx, next); err != nil {
				return err
			}
		}
		if len(under) == 0 {
			if err := wait(ctx); err != nil {
				return err
			}
			continue
		}
		m := under[0]
		under = under[1:]
		if err := a.end(m, carried); err != nil {
			return err
		}
		carried, ready = m.carry, append(ready, m.segment)
	}
	return nil
}

func wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(lookEvery):
		return nil
	}
}

// after tells whether a segment that was given without waiting is this one or comes after it.
func after(at *pg.Segment, s pg.Segment) bool { return at != nil && at.Number >= s.Number }

// at is the last segment that the server was given without waiting; nil for none.
func (a *Ahead) at() (*pg.Segment, error) {
	name, err := a.Files.ReadFile(a.dir(atFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	s, err := pg.ParseSegmentName(string(name), a.Ticket.Size)
	return &s, err
}

// left are those of the segments that were made ready that the server has not taken. What it has passed over goes: it was given that
// without waiting for it here, or goes over to another timeline.
func (a *Ahead) left(ready []pg.Segment, at *pg.Segment) (list []pg.Segment, err error) {
	past := -1 // the last that it has
	for i, s := range ready {
		_, err := a.Files.Look(a.dir(a.name(s)))
		if after(at, s) || errors.Is(err, fs.ErrNotExist) {
			past = i
		} else if err != nil {
			return nil, err
		}
	}
	for _, s := range ready[:past+1] {
		for _, suffix := range []string{"", inSuffix, outSuffix} {
			if err := a.Files.Remove(a.dir(a.name(s) + suffix)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
		}
	}
	return ready[past+1:], nil
}

// noted waits for what crosses into a segment of a partial copy, where another one gave the server the segment before it.
func (a *Ahead) noted(ctx context.Context, s pg.Segment) ([]byte, error) {
	if a.Ticket.Part == nil {
		return nil, nil
	}
	for {
		carried, err := a.Files.ReadFile(filepath.Join(a.Feed, carryName(a.name(s))))
		if !errors.Is(err, fs.ErrNotExist) {
			return carried, err
		}
		if err := wait(ctx); err != nil {
			return nil, err
		}
	}
}

func segments(list []*made) (all []pg.Segment) {
	for _, m := range list {
		all = append(all, m.segment)
	}
	return all
}

// begin begins to make a segment ready.
func (a *Ahead) begin(ctx context.Context, s pg.Segment) *made {
	m := &made{segment: s, done: make(chan struct{})}
	go func() {
		defer close(m.done)
		content, err := a.Open(ctx, a.name(s))
		if err != nil {
			m.err = err
			return
		}
		defer func() { _ = content.Close() }()
		if m.file, m.err = a.Files.Create(a.dir(a.name(s)+partSuffix), 0o600); m.err != nil {
			return
		}
		if a.Ticket.Part == nil {
			m.err = fill(m.file, content, a.Ticket.Size)
		} else {
			m.carry, m.err = a.sifter().sieve(ctx, s, content, m.file, nil)
		}
	}()
	return m
}

// end has a segment be ready, with what crosses into it.
func (a *Ahead) end(m *made, carried []byte) error {
	<-m.done
	if m.err == nil && a.Ticket.Part != nil {
		_, m.err = m.file.WriteAt(carried, wal.CarriedAt)
		name := a.dir(a.name(m.segment))
		m.err = errors.Join(m.err, a.note(name+inSuffix, carried), a.note(name+outSuffix, m.carry))
	}
	if m.err != nil {
		a.drop(m)
		return fmt.Errorf("segment %s: %w", a.name(m.segment), m.err)
	}
	part := a.dir(a.name(m.segment) + partSuffix)
	return errors.Join(m.file.Close(), a.Files.Rename(part, strings.TrimSuffix(part, partSuffix)))
}

// drop ends making a segment ready.
func (a *Ahead) drop(m *made) {
	<-m.done
	if m.file != nil {
		_ = m.file.Close()
		_ = a.Files.Remove(a.dir(a.name(m.segment) + partSuffix))
	}
}

func (a *Ahead) sifter() sifter {
	return sifter{size: a.Ticket.Size, part: *a.Ticket.Part, lacks: a.Lacks, open: a.Open, control: func() ([]byte, error) {
		return a.Files.ReadFile(a.Control)
	}}
}

// note writes a small file without waiting for the disk.
func (a *Ahead) note(name string, content []byte) error {
	f, err := a.Files.Create(name, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Close())
}

// longest is how long one waits for a segment that is being made ready.
const longest = 2 * time.Second

// ready gives the server a segment that was made ready, if it was.
func (t Ticket) ready(name, to string) (done bool, err error) {
	if _, err := pg.ParseSegmentName(name, t.Size); err != nil {
		return false, nil // a history file
	}
	boot, err := host.Boot()
	if err != nil {
		return false, err
	}
	path := filepath.Join(AheadDir(t.Feed), boot, name)
	for deadline := time.Now().Add(longest); ; time.Sleep(lookEvery / 4) {
		if _, err = os.Lstat(path); err == nil {
			break
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return false, err
		}
		if _, err := os.Lstat(path + partSuffix); err != nil || time.Now().After(deadline) {
			if _, err = os.Lstat(path); err == nil { // between the two looks
				break
			}
			return false, t.alone(boot, name)
		}
	}
	if t.Part != nil {
		follows, err := t.follows(name, path)
		if err != nil || !follows {
			return false, errors.Join(err, t.alone(boot, name))
		}
	}
	if err := os.Rename(path, to); err != nil {
		return false, t.alone(boot, name)
	}
	return true, nil
}

// alone notes that a segment is given to the server without what was made ready.
func (t Ticket) alone(boot, name string) error {
	dir := filepath.Join(AheadDir(t.Feed), boot)
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) { // nobody makes any ready
		return nil
	}
	return put(filepath.Join(dir, atFile), func(f *os.File) error {
		_, err := f.WriteString(name)
		return err
	})
}

// follows tells whether a segment that was made ready goes on where that ended which the server was given before, and notes how the
// next one does.
func (t Ticket) follows(name, path string) (bool, error) {
	s, err := pg.ParseSegmentName(name, t.Size)
	if err != nil {
		return false, err
	}
	noted, err := os.ReadFile(t.carry(s))
	if errors.Is(err, fs.ErrNotExist) {
		if s.Number > t.Part.First {
			return false, nil
		}
		err = nil
	}
	if err != nil {
		return false, err
	}
	in, err := os.ReadFile(path + inSuffix)
	if err != nil || !bytes.Equal(in, noted) {
		return false, err
	}
	out, err := os.ReadFile(path + outSuffix)
	if err != nil {
		return false, err
	}
	if err := put(t.carry(next(s)), func(f *os.File) error {
		_, err := f.Write(out)
		return err
	}); err != nil {
		return false, err
	}
	return true, errors.Join(os.Remove(path+inSuffix), os.Remove(path+outSuffix))
}
