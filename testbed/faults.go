package testbed

import (
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"sync"
	"syscall"

	"velvetrewind/engine/host/disk"
)

// Faults is a disk on which each kind of call on each kind of file fails some times, as the calls
// come. A write that fails has written half. After a flush that failed, what was to be flushed is
// lost, as it may be with a real system, and flushing again says that all is well.
type Faults struct {
	disk.Disk
	At []int // the calls of a kind that fail, counted from 1; in order

	mu     sync.Mutex
	calls  map[string]int
	failed map[string]int
}

// NewFaults makes a disk that fails.
func NewFaults(at ...int) *Faults {
	return &Faults{Disk: disk.OS, At: at, calls: make(map[string]int), failed: make(map[string]int)}
}

// Failed tells how often which calls have failed.
func (f *Faults) Failed() map[string]int {
	f.mu.Lock()
	defer f.mu.Unlock()
	all := make(map[string]int)
	for k, n := range f.failed {
		all[k] = n
	}
	return all
}

var varying = regexp.MustCompile(`[0-9A-F]{24}|[0-9a-z]{26}|[0-9]+`)

// fails counts a call, and gives its error if it is one that fails.
func (f *Faults) fails(call, path string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	key := call + " " + varying.ReplaceAllString(filepath.Base(path), "*")
	f.calls[key]++
	for _, n := range f.At {
		if f.calls[key] == n {
			f.failed[key]++
			why := syscall.EIO
			if call == "rename" { // as where another has swept the unfinished file away
				why = syscall.ENOENT
			}
			return fmt.Errorf("%s %s: made to fail: %w", call, path, why)
		}
	}
	return nil
}

func (f *Faults) OpenFile(path string, flag int, mode fs.FileMode) (disk.File, error) {
	if err := f.fails("open", path); err != nil {
		return nil, err
	}
	file, err := f.Disk.OpenFile(path, flag, mode)
	if err != nil {
		return nil, err
	}
	return &faultyFile{File: file, disk: f, path: path}, nil
}

func (f *Faults) CreateTemp(dir, pattern string) (disk.File, error) {
	if err := f.fails("create", pattern); err != nil {
		return nil, err
	}
	file, err := f.Disk.CreateTemp(dir, pattern)
	if err != nil {
		return nil, err
	}
	return &faultyFile{File: file, disk: f, path: pattern}, nil
}

func (f *Faults) Mkdir(path string, mode fs.FileMode) error {
	return f.unless("mkdir", path, func() error { return f.Disk.Mkdir(path, mode) })
}

func (f *Faults) Rename(from, to string) error {
	return f.unless("rename", to, func() error { return f.Disk.Rename(from, to) })
}

func (f *Faults) Link(from, to string) error {
	return f.unless("link", to, func() error { return f.Disk.Link(from, to) })
}

func (f *Faults) Remove(path string) error {
	return f.unless("remove", path, func() error { return f.Disk.Remove(path) })
}

func (f *Faults) Truncate(path string, size int64) error {
	return f.unless("truncate", path, func() error { return f.Disk.Truncate(path, size) })
}

func (f *Faults) SyncDir(path string) error {
	return f.unless("flush directory", path, func() error { return f.Disk.SyncDir(path) })
}

func (f *Faults) Stat(path string) (fs.FileInfo, error) {
	if err := f.fails("stat", path); err != nil {
		return nil, err
	}
	return f.Disk.Stat(path)
}

func (f *Faults) ReadDir(path string) ([]fs.DirEntry, error) {
	if err := f.fails("list", path); err != nil {
		return nil, err
	}
	return f.Disk.ReadDir(path)
}

func (f *Faults) unless(call, path string, do func() error) error {
	if err := f.fails(call, path); err != nil {
		return err
	}
	return do()
}

type faultyFile struct {
	disk.File
	disk *Faults
	path string
	// What was written since the last flush.
	dirty    bool
	from, to int64
}

func (f *faultyFile) wrote(from, to int64) {
	if !f.dirty {
		f.dirty, f.from, f.to = true, from, to
		return
	}
	f.from, f.to = min(f.from, from), max(f.to, to)
}

func (f *faultyFile) WriteAt(p []byte, at int64) (int, error) {
	if err := f.disk.fails("write", f.path); err != nil {
		n, _ := f.File.WriteAt(p[:len(p)/2], at)
		f.wrote(at, at+int64(n))
		return n, err
	}
	n, err := f.File.WriteAt(p, at)
	f.wrote(at, at+int64(n))
	return n, err
}

func (f *faultyFile) Write(p []byte) (int, error) {
	if err := f.disk.fails("write", f.path); err != nil {
		n, _ := f.File.Write(p[:len(p)/2])
		return n, err
	}
	return f.File.Write(p)
}

func (f *faultyFile) Read(p []byte) (int, error) {
	if err := f.disk.fails("read", f.path); err != nil {
		return 0, err
	}
	return f.File.Read(p)
}

func (f *faultyFile) ReadAt(p []byte, at int64) (int, error) {
	if err := f.disk.fails("read", f.path); err != nil {
		return 0, err
	}
	return f.File.ReadAt(p, at)
}

func (f *faultyFile) Truncate(size int64) error {
	return f.disk.unless("truncate", f.path, func() error { return f.File.Truncate(size) })
}

func (f *faultyFile) Sync() error     { return f.flush(f.File.Sync) }
func (f *faultyFile) Datasync() error { return f.flush(f.File.Datasync) }

func (f *faultyFile) flush(do func() error) error {
	err := f.disk.fails("flush", f.path)
	if err == nil {
		err = do()
	} else if f.dirty {
		_, lost := f.File.WriteAt(make([]byte, f.to-f.from), f.from)
		if lost != nil {
			return lost
		}
	}
	f.dirty = false
	return err
}

func (f *faultyFile) Close() error {
	failed := f.disk.fails("close", f.path)
	err := f.File.Close()
	if failed != nil {
		return failed
	}
	return err
}

var _ disk.Disk = (*Faults)(nil)
