package capture

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

	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/disk"
)

// partialSuffix marks the segment that is still being received.
const partialSuffix = ".partial"

// spool is the directory in which a cluster's WAL waits for the store. One
// goroutine writes; others may list and read.
type spool struct {
	disk  disk.Disk
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

// openSpool opens the spool and counts what waits in it. A finished segment that is longer than
// a segment is cut to its length; one that is shorter stays, and is stored as it is.
func openSpool(d disk.Disk, dir string, size pg.SegmentSize, limit int64) (*spool, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &spool{disk: d, dir: dir, size: size, limit: max(limit, 2*int64(size))}
	list, err := s.finished()
	if err != nil {
		return nil, err
	}
	for _, seg := range list {
		info, err := d.Stat(s.path(seg))
		if err == nil && info.Size() > int64(size) {
			err = d.Truncate(s.path(seg), int64(size))
		}
		if err != nil {
			return nil, err
		}
		s.waiting.Add(int64(size))
	}
	return s, nil
}

// full tells whether so much waits for the store that no more should be received.
func (s *spool) full() bool { return s.waiting.Load() >= s.limit }

// remove takes a file out of the spool that is in the store.
func (s *spool) remove(seg pg.Segment, path string) error {
	if err := errors.Join(s.disk.Remove(path), s.disk.SyncDir(s.dir)); err != nil {
		return err
	}
	s.gone(seg, path)
	return nil
}

// gone counts a file that has left the spool.
func (s *spool) gone(seg pg.Segment, path string) {
	if path == s.path(seg) {
		s.waiting.Add(-int64(s.size))
	}
	s.sums.Delete(seg)
}

// sum is the CRC of a finished segment as it was received, if that was in this process.
func (s *spool) sum(seg pg.Segment) (crc uint32, known bool) {
	v, known := s.sums.Load(seg)
	if known {
		crc = v.(uint32)
	}
	return crc, known
}

// finished lists the whole segments that wait for the store, oldest first.
func (s *spool) finished() ([]pg.Segment, error) { return s.list("") }

// partials lists the segments that were cut short.
func (s *spool) partials() ([]pg.Segment, error) { return s.list(partialSuffix) }

func (s *spool) list(suffix string) ([]pg.Segment, error) {
	entries, err := s.disk.ReadDir(s.dir)
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

func (s *spool) path(seg pg.Segment) string { return filepath.Join(s.dir, seg.Name(s.size)) }

// resume makes at the place where writing goes on. The partial file is left as it
// is until the first write: who knows whether the server still has what follows.
func (s *spool) resume(t pg.Timeline, at pg.LSN) {
	s.close()
	s.segment = pg.Segment{Timeline: t, Number: s.size.Number(at)}
	s.written, s.flushed = at, at
}

// write appends data that begins at LSN at, and says whether it finished a segment.
func (s *spool) write(at pg.LSN, data []byte) (finished bool, err error) {
	if at != s.written {
		return false, fmt.Errorf("the server sent WAL from %s where %s was next", at, s.written)
	}
	for len(data) > 0 {
		if s.file == nil {
			if err := s.open(); err != nil {
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

// open opens the partial file for writing on, keeping the bytes before the place
// and dropping those behind it, which nobody vouches for.
func (s *spool) open() error {
	s.segment.Number = s.size.Number(s.written)
	keep := s.size.Offset(s.written)
	f, err := s.disk.OpenFile(s.path(s.segment)+partialSuffix, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	if info, err := f.Stat(); err != nil || info.Size() < keep {
		return errors.Join(err, f.Close(), fmt.Errorf("the spool file %s is shorter than expected", f.Name()))
	}
	if err := errors.Join(f.Truncate(keep), f.Sync(), s.disk.SyncDir(s.dir)); err != nil {
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
func (s *spool) push() error {
	if len(s.pending) == 0 {
		return nil
	}
	at := s.size.Offset(s.written-1) + 1 - int64(len(s.pending))
	_, err := s.file.WriteAt(s.pending, at)
	s.pending = s.pending[:0]
	return err
}

// flush makes all that was written safe.
func (s *spool) flush() error {
	if s.file != nil && s.flushed != s.written {
		if err := errors.Join(s.push(), s.file.Datasync()); err != nil {
			return err
		}
	}
	s.flushed = s.written
	return nil
}

// finish closes a segment of which every byte is there.
func (s *spool) finish() error {
	path := s.path(s.segment)
	err := errors.Join(s.push(), s.file.Sync(), s.file.Close())
	s.file = nil
	if err != nil {
		return err
	}
	if err := s.disk.Rename(path+partialSuffix, path); err != nil {
		return err
	}
	if err := s.disk.SyncDir(s.dir); err != nil {
		return err
	}
	s.sums.Store(s.segment, s.crc)
	s.flushed = s.written
	s.waiting.Add(int64(s.size))
	return nil
}

// close drops what was not made safe; the server has it still.
func (s *spool) close() {
	s.pending = s.pending[:0]
	if s.file != nil {
		_ = s.file.Close()
		s.file = nil
	}
}

// partialSize is how many bytes of a cut segment are there.
func (s *spool) partialSize(seg pg.Segment) (int64, error) {
	info, err := s.disk.Stat(s.path(seg) + partialSuffix)
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// position is where the stream must go on.
type position struct {
	timeline pg.Timeline
	lsn      pg.LSN
}

// vouched is the place in the newest partial file up to which its bytes are surely safe: what was
// flushed in this process, or the slot's position, which the server took from our own reports and
// may have forgotten in a crash. Where both stand before the file, only the segments before it are
// vouched for, by having been finished; where the slot stands after it, it is not the slot that we
// reported to. end is where the file ends; ok is false if there is none.
func (s *spool) vouched(slot pg.LSN) (at position, end pg.LSN, ok bool, err error) {
	partials, err := s.partials()
	if err != nil || len(partials) == 0 {
		return at, 0, false, err
	}
	seg := partials[len(partials)-1]
	size, err := s.partialSize(seg)
	if err != nil {
		return at, 0, false, err
	}
	at = position{seg.Timeline, s.size.Start(seg.Number)}
	end = at.lsn + pg.LSN(size)
	if slot > at.lsn && slot <= end {
		at.lsn = slot
	}
	if s.segment == seg && s.flushed > at.lsn && s.flushed <= end {
		at.lsn = s.flushed
	}
	return at, end, true, nil
}

// Tail is WAL that is in the spool and not in the store.
type Tail struct {
	Segment pg.Segment
	Path    string
	Partial bool
	End     pg.LSN // behind its last byte
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
	s := &spool{disk: disk.OS, dir: filepath.Join(root, cluster), size: size}
	// The cut ones first: what is finished meanwhile is then listed twice, not missed.
	cut, err := s.partials()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	partial := make(map[pg.Segment]int64)
	for _, seg := range cut {
		if n, err := s.partialSize(seg); err == nil {
			partial[seg] = n
		}
	}
	whole, err := s.finished()
	if err != nil {
		return nil, err
	}
	var tails []Tail
	for _, seg := range whole {
		tails = append(tails, Tail{Segment: seg, Path: s.path(seg), End: size.Start(seg.Number + 1)})
		delete(partial, seg)
	}
	for _, seg := range cut {
		if n, ok := partial[seg]; ok {
			tails = append(tails, Tail{Segment: seg, Path: s.path(seg) + partialSuffix, Partial: true, End: size.Start(seg.Number) + pg.LSN(n)})
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
