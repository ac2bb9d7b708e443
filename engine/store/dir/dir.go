// Package dir keeps a store in a directory of a file system.
//
// Invariant: an object is written aside, flushed, renamed into place, and its
// directory flushed, before Commit returns.
package dir

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"

	"velvetrewind/engine/host/disk"
	"velvetrewind/engine/store"
)

// Store is a store in a directory.
type Store struct {
	disk  disk.Disk
	root  string
	group int // group that may read it, or -1
}

// unfinished is the suffix of files that no writer has committed yet.
const unfinished = ".unfinished"

var validKey = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*(/[A-Za-z0-9][A-Za-z0-9._-]*)*$`)

// Open opens the store in the directory root and makes the directory if need be.
// Members of group (-1: nobody) may read what is in it, so that a recovering
// server can be fed straight from the store.
func Open(root string, group int) (*Store, error) { return OpenOn(disk.OS, root, group) }

// OpenOn opens a store on a disk.
func OpenOn(d disk.Disk, root string, group int) (*Store, error) {
	abs, err := filepath.Abs(root)
	if err != nil {
		return nil, err
	}
	s := &Store{disk: d, root: abs, group: group}
	if err := notInData(abs); err != nil {
		return nil, err
	}
	if err := s.makeDir(abs); err != nil {
		return nil, fmt.Errorf("open the store in %s: %w", abs, err)
	}
	return s, nil
}

// notInData refuses a directory in which a server keeps its data.
func notInData(root string) error {
	for dir := root; ; dir = filepath.Dir(dir) {
		_, noVersion := os.Stat(filepath.Join(dir, "PG_VERSION"))
		_, noControl := os.Stat(filepath.Join(dir, "global", "pg_control"))
		switch {
		case noVersion == nil && noControl == nil && dir == root:
			return fmt.Errorf("the store %s is the data directory of a PostgreSQL cluster; choose another place, on another disk", root)
		case noVersion == nil && noControl == nil:
			return fmt.Errorf("the store %s lies within the data directory %s of a PostgreSQL cluster; choose another place, on another "+
				"disk", root, dir)
		case dir == filepath.Dir(dir):
			return nil
		}
	}
}

// OpenExisting opens a store for reading, and makes nothing.
func OpenExisting(root string) (*Store, error) {
	if info, err := os.Stat(root); err != nil || !info.IsDir() {
		return nil, fmt.Errorf("open the store in %s: %w", root, errors.Join(err, errors.New("it cannot be read")))
	}
	return &Store{disk: disk.OS, root: root, group: -1}, nil
}

// String names the store's directory.
func (s *Store) String() string { return s.root }

func (s *Store) path(key string) (string, error) {
	if !validKey.MatchString(key) || strings.HasSuffix(key, unfinished) {
		return "", fmt.Errorf("%q is not a key", key)
	}
	return filepath.Join(s.root, filepath.FromSlash(key)), nil
}

// makeDir makes a directory and those above it, each flushed into its parent.
func (s *Store) makeDir(dir string) error {
	if info, err := s.disk.Stat(dir); err == nil {
		if !info.IsDir() {
			return fmt.Errorf("%s is not a directory", dir)
		}
		return nil
	}
	if parent := filepath.Dir(dir); parent != dir {
		if err := s.makeDir(parent); err != nil {
			return err
		}
	}
	if err := s.disk.Mkdir(dir, 0o750); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if s.group >= 0 {
		if err := s.disk.Chown(dir, -1, s.group); err != nil {
			return err
		}
	}
	return s.disk.SyncDir(filepath.Dir(dir))
}

// Create implements store.Store.
func (s *Store) Create(_ context.Context, key string) (store.Writer, error) {
	path, err := s.path(key)
	if err != nil {
		return nil, err
	}
	if err := s.makeDir(filepath.Dir(path)); err != nil {
		return nil, full(err)
	}
	f, err := s.disk.CreateTemp(filepath.Dir(path), filepath.Base(path)+".*"+unfinished)
	if err != nil {
		return nil, full(err)
	}
	mode := os.FileMode(0o600)
	if s.group >= 0 {
		mode = 0o640
		err = f.Chown(-1, s.group)
	}
	if err == nil {
		err = f.Chmod(mode)
	}
	w := &writer{disk: s.disk, file: f, path: path}
	if err != nil {
		w.Abort()
		return nil, err
	}
	return w, nil
}

type writer struct {
	disk    disk.Disk
	file    disk.File
	path    string
	done    bool
	written int64
	begun   int64 // so much of it has been told to go to disk
}

// ahead is how much is written before the system is told to bring it to disk already,
// so that little is left to wait for at Commit.
const ahead = 4 << 20

func (w *writer) Write(p []byte) (int, error) {
	n, err := w.file.Write(p)
	w.written += int64(n)
	if w.written-w.begun >= ahead {
		// Only a hint: Commit waits for all of it, whatever becomes of this.
		w.file.Begin(w.begun, w.written-w.begun)
		w.begun = w.written
	}
	return n, full(err)
}

func (w *writer) Commit() error {
	if err := w.commit(); err != nil {
		w.Abort()
		return full(err)
	}
	return nil
}

func (w *writer) commit() error {
	if err := w.file.Sync(); err != nil {
		return err
	}
	if err := w.file.Close(); err != nil {
		return err
	}
	if err := w.disk.Rename(w.file.Name(), w.path); err != nil {
		return err
	}
	w.done = true
	return w.disk.SyncDir(filepath.Dir(w.path))
}

func (w *writer) Abort() {
	if !w.done {
		w.done = true
		_ = w.file.Close()
		_ = w.disk.Remove(w.file.Name())
	}
}

// PutNew implements store.Store: of two at once, one link is made.
func (s *Store) PutNew(ctx context.Context, key string, content []byte) error {
	made, err := s.Create(ctx, key)
	if err != nil {
		return err
	}
	defer made.Abort()
	w := made.(*writer)
	if _, err := w.Write(content); err != nil {
		return err
	}
	if err := w.file.Sync(); err != nil {
		return full(err)
	}
	err = s.disk.Link(w.file.Name(), w.path)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s: %w", key, store.ErrExists)
	}
	if err != nil {
		return err
	}
	return s.disk.SyncDir(filepath.Dir(w.path))
}

// Open implements store.Store.
func (s *Store) Open(_ context.Context, key string, offset int64) (io.ReadCloser, error) {
	path, err := s.path(key)
	if err != nil {
		return nil, err
	}
	f, err := disk.Open(s.disk, path)
	if err != nil {
		return nil, missing(key, err)
	}
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}

// Stat implements store.Store.
func (s *Store) Stat(_ context.Context, key string) (store.Info, error) {
	path, err := s.path(key)
	if err != nil {
		return store.Info{}, err
	}
	info, err := s.disk.Stat(path)
	if err != nil {
		return store.Info{}, missing(key, err)
	}
	return store.Info{Key: key, Size: info.Size()}, nil
}

// Delete implements store.Store; deleting what is not there is no error.
func (s *Store) Delete(_ context.Context, key string) error {
	path, err := s.path(key)
	if err != nil {
		return err
	}
	if err := s.disk.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	dir := filepath.Dir(path)
	if err := s.disk.SyncDir(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for dir != s.root && s.disk.Remove(dir) == nil { // until one is not empty
		dir = filepath.Dir(dir)
	}
	return nil
}

// List implements store.Store.
func (s *Store) List(ctx context.Context, prefix string, visit func(store.Info) error) error {
	return s.walk(ctx, prefix, func(path, key string, d fs.DirEntry) error {
		if strings.HasSuffix(key, unfinished) {
			return nil
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		return visit(store.Info{Key: key, Size: info.Size()})
	})
}

// Sweep implements store.Store. Directories in which nothing is left go too.
func (s *Store) Sweep(ctx context.Context, prefix string) error {
	err := s.walk(ctx, prefix, func(path, key string, _ fs.DirEntry) error {
		if strings.HasSuffix(key, unfinished) {
			return s.disk.Remove(path)
		}
		return nil
	})
	if err != nil {
		return err
	}
	var dirs []string
	err = filepath.WalkDir(s.top(prefix), func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			dirs = append(dirs, path)
		}
		return nil
	})
	for _, d := range slices.Backward(dirs) { // the deepest first; one with content stays
		_ = s.disk.Remove(d)
	}
	return err
}

// top is the directory that holds everything below a prefix.
func (s *Store) top(prefix string) string {
	return filepath.Join(s.root, filepath.FromSlash(prefix[:strings.LastIndex(prefix, "/")+1]))
}

func (s *Store) walk(ctx context.Context, prefix string, visit func(path, key string, d fs.DirEntry) error) error {
	return filepath.WalkDir(s.top(prefix), func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || d.IsDir() {
			return errors.Join(err, ctx.Err())
		}
		rel, err := filepath.Rel(s.root, path)
		if err != nil {
			return err
		}
		key := filepath.ToSlash(rel)
		if !strings.HasPrefix(key, prefix) {
			return nil
		}
		return visit(path, key, d)
	})
}

func missing(key string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", key, store.ErrNotFound)
	}
	return err
}

func full(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fmt.Errorf("%w (%w)", store.ErrFull, err)
	}
	return err
}
