// Package disk is the file system as the spool and the store in a directory use it.
//
// Invariant: every call by which something could be lost goes through Disk, so that tests can have
// each of them fail. What order of calls makes a file safe is left to its users.
package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// Disk is a file system.
type Disk interface {
	OpenFile(path string, flag int, mode fs.FileMode) (File, error)
	CreateTemp(dir, pattern string) (File, error)
	Mkdir(path string, mode fs.FileMode) error
	Chown(path string, uid, gid int) error
	Rename(from, to string) error
	Link(from, to string) error
	Remove(path string) error
	Truncate(path string, size int64) error
	Stat(path string) (fs.FileInfo, error)
	ReadDir(path string) ([]fs.DirEntry, error)
	// SyncDir makes the names in a directory safe.
	SyncDir(path string) error
}

// File is an open file.
type File interface {
	io.Reader
	io.Writer
	io.Seeker
	io.ReaderAt
	io.WriterAt
	io.Closer
	Name() string
	Stat() (fs.FileInfo, error)
	Truncate(size int64) error
	Chown(uid, gid int) error
	Chmod(mode fs.FileMode) error
	// Sync makes the file safe.
	Sync() error
	// Datasync makes its bytes and its length safe, but not its times.
	Datasync() error
	// Begin has bytes be brought to disk already; it promises nothing.
	Begin(from, n int64)
}

// OS is the operating system's.
var OS Disk = system{}

type system struct{}

func (system) OpenFile(path string, flag int, mode fs.FileMode) (File, error) {
	f, err := os.OpenFile(path, flag, mode)
	if err != nil {
		return nil, err
	}
	return file{f}, nil
}

func (system) CreateTemp(dir, pattern string) (File, error) {
	f, err := os.CreateTemp(dir, pattern)
	if err != nil {
		return nil, err
	}
	return file{f}, nil
}

func (system) Mkdir(path string, mode fs.FileMode) error  { return os.Mkdir(path, mode) }
func (system) Chown(path string, uid, gid int) error      { return os.Chown(path, uid, gid) }
func (system) Rename(from, to string) error               { return os.Rename(from, to) }
func (system) Link(from, to string) error                 { return os.Link(from, to) }
func (system) Remove(path string) error                   { return os.Remove(path) }
func (system) Truncate(path string, size int64) error     { return os.Truncate(path, size) }
func (system) Stat(path string) (fs.FileInfo, error)      { return os.Stat(path) }
func (system) ReadDir(path string) ([]fs.DirEntry, error) { return os.ReadDir(path) }

func (system) SyncDir(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

type file struct{ *os.File }

func (f file) Datasync() error { return unix.Fdatasync(int(f.Fd())) }

func (f file) Begin(from, n int64) {
	_ = unix.SyncFileRange(int(f.Fd()), from, n, unix.SYNC_FILE_RANGE_WRITE)
}

// Open opens a file for reading.
func Open(d Disk, path string) (File, error) { return d.OpenFile(path, os.O_RDONLY, 0) }
