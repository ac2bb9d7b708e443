package host

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"
)

// Tree is a directory in which another OS user may put what it likes: links, pipes, files of
// others under a name of its own. Names are relative to the directory. None leads out of it,
// and only plain files of the OS user are opened.
type Tree struct {
	host *Host
	root *os.Root
	dir  string
}

// Tree opens a directory. Nobody else may be able to put another in its place.
func (h *Host) Tree(dir string) (*Tree, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return &Tree{h, root, dir}, nil
}

// RealTree opens a directory to which no link leads: where the OS user may write above it, another cannot be put in its place.
func (h *Host) RealTree(dir string) (*Tree, error) {
	d, err := openReal(dir)
	if err != nil {
		return nil, err
	}
	root, err := rootOf(d)
	if err := errors.Join(err, d.Close()); err != nil {
		return nil, err
	}
	return &Tree{h, root, dir}, nil
}

// In opens a directory of the tree as a tree of its own.
func (t *Tree) In(name string) (*Tree, error) {
	root, err := t.root.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	return &Tree{t.host, root, filepath.Join(t.dir, name)}, nil
}

// Dir is the path of the directory.
func (t *Tree) Dir() string { return t.dir }

// Path is where a name lies, for messages and for servers.
func (t *Tree) Path(name string) string { return filepath.Join(t.Dir(), name) }

// Close closes the tree. What was opened in it stays open.
func (t *Tree) Close() error { return t.root.Close() }

// MakeDir makes one directory that belongs to the OS user; it may be there already.
func (t *Tree) MakeDir(name string, mode fs.FileMode) error {
	if err := t.root.Mkdir(name, mode); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := t.root.Chmod(name, mode); err != nil { // whatever the umask
		return err
	}
	if t.host.uid < 0 {
		return nil
	}
	return t.root.Lchown(name, t.host.uid, t.host.gid)
}

// Create opens a new file that belongs to the OS user; it must not be there yet.
func (t *Tree) Create(name string, mode fs.FileMode) (*os.File, error) {
	f, err := t.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return nil, err
	}
	return t.host.settle(f, mode)
}

// Reopen opens a file for reading and writing, with what it holds, or a new one. What is no
// plain file of the OS user is removed first.
func (t *Tree) Reopen(name string, mode fs.FileMode) (*os.File, error) {
	f, err := t.root.OpenFile(name, os.O_RDWR|unix.O_NONBLOCK, 0)
	if err == nil {
		if err = t.host.plain(f); err == nil {
			return t.host.settle(f, mode)
		}
		_ = f.Close()
	}
	if !errors.Is(err, fs.ErrNotExist) {
		if err := t.root.RemoveAll(name); err != nil {
			return nil, err
		}
	}
	if f, err = t.root.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, mode); err != nil {
		return nil, err
	}
	return t.host.settle(f, mode)
}

// Change opens a plain file of the OS user for reading and writing.
func (t *Tree) Change(name string) (*os.File, error) {
	f, err := t.root.OpenFile(name, os.O_RDWR|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	if err := t.host.plain(f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Open opens a plain file of the OS user for reading.
func (t *Tree) Open(name string) (*os.File, error) {
	return t.host.openPlain(func(how int) (*os.File, error) { return t.root.OpenFile(name, how, 0) })
}

// ReadFile reads a small file.
func (t *Tree) ReadFile(name string) ([]byte, error) {
	f, err := t.Open(name)
	if err != nil {
		return nil, err
	}
	content, err := io.ReadAll(io.LimitReader(f, largestSmallFile))
	return content, errors.Join(err, f.Close())
}

// largestSmallFile bounds what is read into memory of a file that somebody else may have written.
const largestSmallFile = 1 << 20

// WriteFile puts a small file in place: written aside, flushed, renamed.
func (t *Tree) WriteFile(name string, content []byte, mode fs.FileMode) error {
	aside := name + ".new"
	if err := t.root.RemoveAll(aside); err != nil {
		return err
	}
	f, err := t.Create(aside, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := t.root.Rename(aside, name); err != nil {
		return err
	}
	dir, err := t.root.Open(filepath.Dir(name))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// Rename gives a file another name in the tree.
func (t *Tree) Rename(from, to string) error { return t.root.Rename(from, to) }

// SyncDir has the names in a directory of the tree be safe.
func (t *Tree) SyncDir(name string) error { return t.syncOne(name) }

// MoveTo gives what has a name the same name in another tree of the same file system, where nothing has it, durably. The directories
// above it are made there.
func (t *Tree) MoveTo(to *Tree, name string) error {
	if err := to.makeDirs(filepath.Dir(name)); err != nil {
		return err
	}
	from, err := t.root.OpenFile(filepath.Dir(name), os.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	in, err := to.root.OpenFile(filepath.Dir(name), os.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return errors.Join(err, from.Close())
	}
	base := filepath.Base(name)
	if err = unix.Renameat2(int(from.Fd()), base, int(in.Fd()), base, unix.RENAME_NOREPLACE); err != nil {
		err = &os.LinkError{Op: "rename", Old: t.Path(name), New: to.Path(name), Err: err}
	} else {
		err = errors.Join(in.Sync(), from.Sync())
	}
	return errors.Join(err, in.Close(), from.Close())
}

// makeDirs makes a directory of the tree, and those above it.
func (t *Tree) makeDirs(name string) error {
	if name == "." {
		return nil
	}
	if info, err := t.root.Lstat(name); err == nil && info.IsDir() {
		return nil
	}
	if err := t.makeDirs(filepath.Dir(name)); err != nil {
		return err
	}
	return t.MakeDir(name, 0o700)
}

// Lstat describes what has a name, if it is a link the link itself.
func (t *Tree) Lstat(name string) (fs.FileInfo, error) { return t.root.Lstat(name) }

// Remove removes what has a name, and everything below it.
func (t *Tree) Remove(name string) error { return t.root.RemoveAll(name) }

// List lists what a directory of the tree holds.
func (t *Tree) List(name string) ([]fs.DirEntry, error) {
	d, err := t.root.OpenFile(name, os.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, err
	}
	entries, err := d.ReadDir(-1)
	return entries, errors.Join(err, d.Close())
}

// Walk visits every regular file below a directory of the tree. Links are not followed.
func (t *Tree) Walk(below string, visit func(name string, d fs.DirEntry) error) error {
	entries, err := t.List(below)
	if err != nil {
		return err
	}
	for _, e := range entries {
		name := filepath.Join(below, e.Name())
		switch {
		case e.IsDir():
			err = t.Walk(name, visit)
		case e.Type().IsRegular():
			err = visit(name, e)
		}
		if errors.Is(err, fs.ErrNotExist) {
			err = nil // gone since the directory was read
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Used is how many bytes the regular files of the tree take on disk.
func (t *Tree) Used() (total int64, err error) {
	err = t.Walk(".", func(_ string, d fs.DirEntry) error {
		info, err := d.Info()
		if err != nil {
			return err
		}
		if st, ok := info.Sys().(*syscall.Stat_t); ok {
			total += st.Blocks * 512
		}
		return nil
	})
	return total, err
}

// flushedWhole are the file systems that one call is known to flush as a whole, and to tell of what failed. A network's, or one in a
// program, may take it for done.
var flushedWhole = []int64{unix.EXT4_SUPER_MAGIC, unix.XFS_SUPER_MAGIC, unix.BTRFS_SUPER_MAGIC, unix.F2FS_SUPER_MAGIC,
	unix.OVERLAYFS_SUPER_MAGIC, unix.TMPFS_MAGIC, zfs, unix.BCACHEFS_SUPER_MAGIC}

const zfs = 0x2fc12fc1

// Sync makes the tree safe: by one flush of its file system, where that does it, else by one of each file and directory.
func (t *Tree) Sync() error {
	d, err := t.root.Open(".")
	if err != nil {
		return err
	}
	var is unix.Statfs_t
	if err = unix.Fstatfs(int(d.Fd()), &is); err == nil {
		if slices.Contains(flushedWhole, int64(is.Type)) {
			err = unix.Syncfs(int(d.Fd()))
		} else {
			err = t.syncEach(".")
		}
	}
	return errors.Join(err, d.Close())
}

// syncEach flushes what is below a directory, and then the directory.
func (t *Tree) syncEach(dir string) error {
	entries, err := t.List(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		name := filepath.Join(dir, e.Name())
		switch {
		case e.IsDir():
			err = t.syncEach(name)
		case e.Type().IsRegular():
			err = t.syncOne(name)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) { // gone since the directory was read
			return err
		}
	}
	return t.syncOne(dir)
}

func (t *Tree) syncOne(name string) error {
	f, err := t.root.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// settle gives an open file to the OS user, with a mode.
func (h *Host) settle(f *os.File, mode fs.FileMode) (*os.File, error) {
	var err error
	if h.uid >= 0 {
		err = f.Chown(h.uid, h.gid)
	}
	if err == nil {
		err = f.Chmod(mode) // whatever the umask
	}
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}

// openPlain opens for reading what is a plain file of the OS user; it does not wait at a pipe.
func (h *Host) openPlain(open func(how int) (*os.File, error)) (*os.File, error) {
	f, err := open(os.O_RDONLY | unix.O_NONBLOCK)
	if err != nil {
		return nil, err
	}
	if err := h.plain(f); err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}

// plain refuses what is no regular file, and where we are root what is not the OS user's: a link,
// hard or not, by which it would have us read or write what is not its own.
func (h *Host) plain(f *os.File) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is no plain file", f.Name())
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && h.uid >= 0 && int(st.Uid) != h.uid {
		return fmt.Errorf("%s does not belong to the OS user %s", f.Name(), h.name)
	}
	return nil
}
