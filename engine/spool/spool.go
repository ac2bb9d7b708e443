// Package spool is where received WAL waits on local disk until the store has it.
//
// Invariant: what lies below Flushed is on disk; a segment has its final name only when every byte of it is. Nothing
// is removed but what its caller says is in the store. What is in the files is not looked at: that is capture's.
package spool

import (
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host/disk"
)

// AsideDir is where WAL goes, below the spool, that the store contradicts or has more of.
const AsideDir = "aside"

// partialSuffix marks the segment that is still being received.
const partialSuffix = ".partial"

// Spool is the directory in which a cluster's WAL waits for the store. One
// goroutine writes; others may list and read.
type Spool struct {
	Disk  disk.Disk
	dir   string
	size  pg.SegmentSize
	limit int64 // bytes of finished segments that may wait for the store; 0 for no limit

	segment pg.Segment // being written
	file    disk.File  // nil before the first write
	pending []byte     // the last of what was written, not handed to the file yet
	written pg.LSN
	flushed pg.LSN
	waiting atomic.Int64 // bytes of finished segments

	crc  uint32   // of what was received of the segment that is being written
	sums sync.Map // of finished segments, by pg.Segment: their CRC as received
}

// pendingBytes are gathered at most before they go to the file.
const pendingBytes = 128 << 10

// Open opens the spool and counts what waits in it. A finished segment that is longer than
// a segment is cut to its length; one that is shorter stays, and is stored as it is.
func Open(d disk.Disk, dir string, size pg.SegmentSize, limit int64) (*Spool, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Spool{Disk: d, dir: dir, size: size, limit: max(limit, 2*int64(size))}
	list, err := s.Finished()
	if err != nil {
		return nil, err
	}
	for _, seg := range list {
		info, err := d.Stat(s.Path(seg))
		if err == nil && info.Size() > int64(size) {
			err = d.Truncate(s.Path(seg), int64(size))
		}
		if err != nil {
			return nil, err
		}
		s.waiting.Add(int64(size))
	}
	return s, nil
}

// Written is the place to which WAL was received.
func (s *Spool) Written() pg.LSN { return s.written }

// Flushed is the place below which everything is on disk.
func (s *Spool) Flushed() pg.LSN { return s.flushed }

// Waiting is how many bytes of finished segments wait for the store.
func (s *Spool) Waiting() int64 { return s.waiting.Load() }

// Filling tells whether more than a quarter of what may wait does.
func (s *Spool) Filling() bool { return s.waiting.Load() > s.limit/4 }

// Full tells whether so much waits for the store that no more should be received.
func (s *Spool) Full() bool { return s.waiting.Load() >= s.limit }

// Remove takes a file out of the spool that is in the store.
func (s *Spool) Remove(seg pg.Segment, path string) error {
	if err := errors.Join(s.Disk.Remove(path), s.Disk.SyncDir(s.dir)); err != nil {
		return err
	}
	s.gone(seg, path)
	return nil
}

// gone counts a file that has left the spool.
func (s *Spool) gone(seg pg.Segment, path string) {
	if path == s.Path(seg) {
		s.waiting.Add(-int64(s.size))
	}
	s.sums.Delete(seg)
}

// Sum is the CRC of a finished segment as it was received, if that was in this process.
func (s *Spool) Sum(seg pg.Segment) (crc uint32, known bool) {
	v, known := s.sums.Load(seg)
	if known {
		crc = v.(uint32)
	}
	return crc, known
}

// Finished lists the whole segments that wait for the store, oldest first.
func (s *Spool) Finished() ([]pg.Segment, error) { return s.list("") }

// Partials lists the segments that were cut short.
func (s *Spool) Partials() ([]pg.Segment, error) { return s.list(partialSuffix) }

func (s *Spool) list(suffix string) ([]pg.Segment, error) {
	entries, err := s.Disk.ReadDir(s.dir)
	if err != nil {
		return nil, err
	}
	var list []pg.Segment
	for _, e := range entries {
		name, ok := strings.CutSuffix(e.Name(), suffix)
		if !ok {
			continue
		}
		if seg, err := pg.ParseSegmentName(name, s.size); err == nil {
			list = append(list, seg)
		}
	}
	sort.Slice(list, func(i, j int) bool {
		if list[i].Timeline != list[j].Timeline {
			return list[i].Timeline < list[j].Timeline
		}
		return list[i].Number < list[j].Number
	})
	return list, nil
}

// Path is where a finished segment lies.
func (s *Spool) Path(seg pg.Segment) string { return filepath.Join(s.dir, seg.Name(s.size)) }

// PartialPath is where a segment lies of which not every byte is there.
func (s *Spool) PartialPath(seg pg.Segment) string { return s.Path(seg) + partialSuffix }

// Resume makes at the place where writing goes on. The partial file is left as it
// is until the first write: who knows whether the server still has what follows.
func (s *Spool) Resume(t pg.Timeline, at pg.LSN) {
	s.Close()
	s.segment = pg.Segment{Timeline: t, Number: s.size.Number(at)}
	s.written, s.flushed = at, at
}

// Write appends data that begins at LSN at, and says whether it finished a segment.
func (s *Spool) Write(at pg.LSN, data []byte) (finished bool, err error) {
	if at != s.written {
		return false, fmt.Errorf("the server sent WAL from %s where %s was next", at, s.written)
	}
	for len(data) > 0 {
		if s.file == nil {
			if err := s.Begin(); err != nil {
				return finished, err
			}
		}
		n := min(len(data), int(s.size)-int(s.size.Offset(s.written)), pendingBytes)
		if len(s.pending)+n > pendingBytes {
			if err := s.push(); err != nil {
				return finished, err
			}
		}
		s.pending = append(s.pending, data[:n]...)
		s.crc = crc32.Update(s.crc, pg.Castagnoli, data[:n])
		s.written += pg.LSN(n)
		data = data[n:]
		if s.size.Offset(s.written) == 0 {
			if err := s.finish(); err != nil {
				return finished, err
			}
			finished = true
		}
	}
	return finished, nil
}

// Begin opens the partial file for writing on, keeping the bytes before the place
// and dropping those after it, which nobody vouches for.
func (s *Spool) Begin() error {
	s.segment.Number = s.size.Number(s.written)
	keep := s.size.Offset(s.written)
	f, err := s.Disk.OpenFile(s.PartialPath(s.segment), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	if info, err := f.Stat(); err != nil || info.Size() < keep {
		return errors.Join(err, f.Close(), fmt.Errorf("the spool file %s is shorter than expected", f.Name()))
	}
	if err := errors.Join(f.Truncate(keep), f.Sync(), s.Disk.SyncDir(s.dir)); err != nil {
		return errors.Join(err, f.Close())
	}
	sum := crc32.New(pg.Castagnoli)
	if _, err := io.Copy(sum, io.NewSectionReader(f, 0, keep)); err != nil {
		return errors.Join(err, f.Close())
	}
	s.file, s.crc = f, sum.Sum32()
	return nil
}

// push hands what is pending to the file, and so shows it to readers.
func (s *Spool) push() error {
	if len(s.pending) == 0 {
		return nil
	}
	at := s.size.Offset(s.written-1) + 1 - int64(len(s.pending))
	_, err := s.file.WriteAt(s.pending, at)
	s.pending = s.pending[:0]
	return err
}

// Flush makes all that was written safe.
func (s *Spool) Flush() error {
	if s.file != nil && s.flushed != s.written {
		if err := errors.Join(s.push(), s.file.Datasync()); err != nil {
			return err
		}
	}
	s.flushed = s.written
	return nil
}

// finish closes a segment of which every byte is there.
func (s *Spool) finish() error {
	path := s.Path(s.segment)
	err := errors.Join(s.push(), s.file.Sync(), s.file.Close())
	s.file = nil
	if err != nil {
		return err
	}
	if err := s.Disk.Rename(path+partialSuffix, path); err != nil {
		return err
	}
	if err := s.Disk.SyncDir(s.dir); err != nil {
		return err
	}
	s.sums.Store(s.segment, s.crc)
	s.flushed = s.written
	s.waiting.Add(int64(s.size))
	return nil
}

// Close drops what was not made safe; the server has it still.
func (s *Spool) Close() {
	s.pending = s.pending[:0]
	if s.file != nil {
		_ = s.file.Close()
		s.file = nil
	}
}

// PartialSize is how many bytes of a cut segment are there.
func (s *Spool) PartialSize(seg pg.Segment) (int64, error) {
	info, err := s.Disk.Stat(s.PartialPath(seg))
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// SetAside takes a file out of the spool without losing it: somebody may want to look at it.
func (s *Spool) SetAside(seg pg.Segment, path string) error {
	dir := filepath.Join(s.dir, AsideDir)
	if err := s.Disk.Mkdir(dir, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	to := filepath.Join(dir, fmt.Sprintf("%s.%d", filepath.Base(path), time.Now().UnixNano()))
	if err := s.Disk.Rename(path, to); err != nil {
		return err
	}
	s.gone(seg, path)
	return errors.Join(s.Disk.SyncDir(dir), s.Disk.SyncDir(s.dir))
}

// Position is where the stream must go on.
type Position struct {
	Timeline pg.Timeline
	LSN      pg.LSN
}

// Vouched is the place in the newest partial file up to which its bytes are surely safe: what was
// flushed in this process, or the slot's position, which the server took from our own reports and
// may have forgotten in a crash. Where both stand before the file, only the segments before it are
// Vouched for, by having been finished; where the slot stands after it, it is not the slot that we
// reported to. end is where the file ends; ok is false if there is none.
func (s *Spool) Vouched(slot pg.LSN) (at Position, end pg.LSN, ok bool, err error) {
	partials, err := s.Partials()
	if err != nil || len(partials) == 0 {
		return at, 0, false, err
	}
	seg := partials[len(partials)-1]
	size, err := s.PartialSize(seg)
	if err != nil {
		return at, 0, false, err
	}
	at = Position{seg.Timeline, s.size.Start(seg.Number)}
	end = at.LSN + pg.LSN(size)
	if slot > at.LSN && slot <= end {
		at.LSN = slot
	}
	if s.segment == seg && s.flushed > at.LSN && s.flushed <= end {
		at.LSN = s.flushed
	}
	return at, end, true, nil
}

// Tail is WAL that is in the spool and not in the store.
type Tail struct {
	Segment pg.Segment
	Path    string
	Partial bool
	End     pg.LSN // after its last byte
}

// Open opens the file, also if it was finished since it was listed. The error is
// fs.ErrNotExist if it has gone to the store.
func (t Tail) Open() (*os.File, error) {
	f, err := os.Open(t.Path)
	if whole, was := strings.CutSuffix(t.Path, partialSuffix); was && errors.Is(err, fs.ErrNotExist) {
		return os.Open(whole)
	}
	return f, err
}

// Tails lists what waits in the spool of a cluster, for those who need WAL that has
// not reached the store yet. A listed file may be gone by the time Tail.Open is called,
// and is in the store then.
func Tails(root, cluster string, size pg.SegmentSize) ([]Tail, error) {
	s := &Spool{Disk: disk.OS, dir: filepath.Join(root, cluster), size: size}
	// The cut ones first: what is finished meanwhile is then listed twice, not missed.
	cut, err := s.Partials()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	partial := make(map[pg.Segment]int64)
	for _, seg := range cut {
		if n, err := s.PartialSize(seg); err == nil {
			partial[seg] = n
		}
	}
	whole, err := s.Finished()
	if err != nil {
		return nil, err
	}
	var tails []Tail
	for _, seg := range whole {
		tails = append(tails, Tail{Segment: seg, Path: s.Path(seg), End: size.Start(seg.Number + 1)})
		delete(partial, seg)
	}
	for _, seg := range cut {
		if n, ok := partial[seg]; ok {
			tails = append(tails, Tail{Segment: seg, Path: s.PartialPath(seg), Partial: true, End: size.Start(seg.Number) + pg.LSN(n)})
		}
	}
	return tails, nil
}

// Reached tells whether the spool holds WAL of a timeline up to an LSN, and makes sure
// that what it holds of that segment is safe on disk.
func Reached(root string, k catalog.Cluster, t pg.Timeline, to pg.LSN) (bool, error) {
	tails, err := Tails(root, k.ID, k.SegmentSize)
	if err != nil {
		return false, err
	}
	for _, tail := range tails {
		if tail.Segment.Timeline != t || tail.End < to || k.SegmentSize.Start(tail.Segment.Number) >= to {
			continue
		}
		f, err := tail.Open()
		if errors.Is(err, fs.ErrNotExist) {
			return false, nil // it has gone to the store
		}
		if err != nil {
			return false, err
		}
		return true, errors.Join(f.Sync(), f.Close(), disk.OS.SyncDir(filepath.Dir(tail.Path)))
	}
	return false, nil
}

// Forget removes the spool of a cluster, below the directory of all spools. The caller has made sure that its capture
// has ended.
func Forget(root, cluster string) error { return os.RemoveAll(filepath.Join(root, cluster)) }
