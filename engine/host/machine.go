package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"velvetrewind/core/pg"
)

// Machine is where copies are laid out and their servers run: this one, or one with a host agent. What cannot be told because the
// machine is out of reach is an error, never an answer.
type Machine interface {
	// Under gives the machine with another of its OS users, "" for the first.
	Under(user string) (Machine, error)
	// User is the name of the OS user that servers run as.
	User() string
	// Files opens a directory.
	Files(dir string) (Files, error)
	MakeClosedDir(path string) error
	RemoveTree(dir string) error
	FreeSpace(dir string) (int64, error)
	// FreeMemory is how many bytes of memory are free, or can be made so at once.
	FreeMemory() (int64, error)
	FreePort() (int, error)
	// Listens tells whether something listens on a loopback port.
	Listens(port int) (bool, error)
	// SocketDir makes the directory of a server's Unix socket, whose path follows from dir.
	SocketDir(dir string) (string, error)
	// DropSocketDir removes it.
	DropSocketDir(dir string) error
	Start(ctx context.Context, s Server) error
	Stop(ctx context.Context, s Server, mode StopMode) error
	// Runs tells whether a server runs, or has been told to and is not known to have failed.
	Runs(s Server) (running, starting bool, err error)
	// Log opens a server's log for reading.
	Log(s Server) (io.ReadCloser, error)
	LogTail(s Server, n int64) string
	// Dial connects to a server through its Unix socket.
	Dial(ctx context.Context, s Server) (net.Conn, error)
	Originals
}

// Originals are the servers of a machine that are not ours, and where their directories lie.
type Originals interface {
	// Inspect looks at the server of a data directory, which must be a cluster's with a system identifier, and belong to one of the
	// OS users of copies. The error is ErrGone where there is none.
	Inspect(dir string, systemID uint64) (Original, error)
	// OriginalRunning tells whether a server runs on the original's directory.
	OriginalRunning(o Original) (bool, error)
	StopOriginal(ctx context.Context, o Original) error
	// StartOriginal starts it, if it does not run, and waits until it takes connections.
	StartOriginal(ctx context.Context, o Original) error
	// Refuse has an original's pg_hba.conf, of which a copy is kept beside it, be another, and the server take notice.
	Refuse(ctx context.Context, o Original, hba, content string) error
	// Admit undoes Refuse; where nothing was refused it does nothing.
	Admit(ctx context.Context, o Original, hba string) error
	// HBA reads an original's pg_hba.conf, as it is where nothing is refused.
	HBA(o Original, hba string) (string, error)
	// WorkedIn tells whether a process of a server works in a directory, be it what is left of one whose first process was killed.
	WorkedIn(dir string) (bool, error)
	// Control reads the control file of a data directory that belongs to an OS user of copies.
	Control(user, dir string) (pg.Control, error)
	// TablespacesOf reads where the tablespaces of a data directory lie, by their OIDs.
	TablespacesOf(user, dir string) (map[uint32]string, error)
	// Spot tells what is at a path; fs.ErrNotExist where there is nothing.
	Spot(path string) (Spot, error)
	// Move gives a directory another name on the same file system, durably. No part of either path may be a link, and nothing may have
	// the new name; where it has it already, and nothing has the old one, that was done before.
	Move(from, to string) error
	// Bring copies a directory of an OS user of copies to another file system, under a name that ends as BroughtName says, in place of
	// what has it, and durably.
	Bring(ctx context.Context, user, from, to string) error
	// Asides lists what is set aside of a directory, beside it.
	Asides(dir string) ([]Aside, error)
	// RemoveAside removes a directory that has the name of one that is set aside, or brought.
	RemoveAside(dir string) error
}

// Spot is what is at a path.
type Spot struct {
	Real   string // path without links
	Device uint64 // file system
	Free   int64  // bytes that can still be written to it
	Dir    bool
}

// Files are those of a directory in which another OS user may put what it likes, as Tree says.
type Files interface {
	// In opens a directory in it.
	In(name string) (Files, error)
	Path(name string) string
	Close() error
	MakeDir(name string, mode fs.FileMode) error
	Create(name string, mode fs.FileMode) (File, error)
	Reopen(name string, mode fs.FileMode) (File, error)
	Open(name string) (File, error)
	ReadFile(name string) ([]byte, error)
	WriteFile(name string, content []byte, mode fs.FileMode) error
	Rename(from, to string) error
	// Link makes a link to a path, in place of what has the name.
	Link(path, name string) error
	// Look tells what has a name, if it is a link of the link itself; fs.ErrNotExist where nothing has it.
	Look(name string) (Entry, error)
	Remove(name string) error
	List(name string) ([]Entry, error)
	// Describe lists what a directory holds, with everything that an entry tells; what goes meanwhile is left out.
	Describe(name string) ([]Entry, error)
	// Walk visits every plain file below a directory, with its size.
	Walk(below string, visit func(name string, size int64) error) error
	Used() (int64, error)
	Sync() error
}

// Entry is what a directory holds under a name.
type Entry struct {
	Name    string
	Dir     bool
	Regular bool
	Size    int64 // of a regular file; not told where many are listed
	// What only Describe tells.
	Link     bool
	Mode     fs.FileMode // permissions
	Modified time.Time
}

// File is an open file.
type File interface {
	io.Reader
	io.Writer
	io.ReaderAt
	io.WriterAt
	io.Closer
	Truncate(size int64) error
	// Sync has the file be safe on disk.
	Sync() error
	// Begin has bytes be brought to disk already; it promises nothing.
	Begin(from, n int64)
}

// Under gives the host with another OS user.
func (h *Host) Under(user string) (Machine, error) { return h.As(user) }

// Files opens a directory. Nobody else may be able to put another in its place.
func (h *Host) Files(dir string) (Files, error) {
	t, err := h.Tree(dir)
	if err != nil {
		return nil, err
	}
	return files{t}, nil
}

// RealFiles opens a directory to which no link leads.
func (h *Host) RealFiles(dir string) (Files, error) {
	t, err := h.RealTree(dir)
	if err != nil {
		return nil, err
	}
	return files{t}, nil
}

// Listens tells whether something listens on a loopback port.
func (h *Host) Listens(port int) (bool, error) { return h.PortTaken(port), nil }

// DropSocketDir removes the directory of a server's Unix socket.
func (h *Host) DropSocketDir(dir string) error { return h.RemoveTree(h.SocketPath(dir)) }

// Runs tells whether a server runs, or is about to.
func (h *Host) Runs(s Server) (running, starting bool, err error) {
	if running = h.Running(s); running {
		return true, false, nil
	}
	return false, h.Starting(s), nil
}

// Log opens a server's log for reading.
func (h *Host) Log(s Server) (io.ReadCloser, error) { return h.OpenLog(s) }

// Dial connects to a server through its Unix socket.
func (h *Host) Dial(ctx context.Context, s Server) (net.Conn, error) {
	return new(net.Dialer).DialContext(ctx, "unix", filepath.Join(s.Socket, fmt.Sprintf(".s.PGSQL.%d", s.Port)))
}

// files are those of a directory of this machine.
type files struct{ *Tree }

func (f files) In(name string) (Files, error) {
	t, err := f.Tree.In(name)
	if err != nil {
		return nil, err
	}
	return files{t}, nil
}

func (f files) Create(name string, mode fs.FileMode) (File, error) {
	return opened(f.Tree.Create(name, mode))
}
func (f files) Reopen(name string, mode fs.FileMode) (File, error) {
	return opened(f.Tree.Reopen(name, mode))
}
func (f files) Open(name string) (File, error) { return opened(f.Tree.Open(name)) }

func (f files) Look(name string) (Entry, error) {
	info, err := f.Lstat(name)
	if err != nil {
		return Entry{}, err
	}
	return Entry{Name: filepath.Base(name), Dir: info.IsDir(), Regular: info.Mode().IsRegular(), Size: info.Size()}, nil
}

func (f files) Describe(name string) ([]Entry, error) {
	entries, err := f.Tree.List(name)
	if err != nil {
		return nil, err
	}
	var list []Entry
	for _, e := range entries {
		info, err := f.Lstat(filepath.Join(name, e.Name()))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		list = append(list, Entry{Name: e.Name(), Dir: info.IsDir(), Regular: info.Mode().IsRegular(), Size: info.Size(),
			Link: info.Mode()&fs.ModeSymlink != 0, Mode: info.Mode().Perm(), Modified: info.ModTime().UTC()})
	}
	return list, nil
}

func (f files) List(name string) ([]Entry, error) {
	entries, err := f.Tree.List(name)
	list := make([]Entry, len(entries))
	for i, e := range entries {
		list[i] = Entry{Name: e.Name(), Dir: e.IsDir(), Regular: e.Type().IsRegular()}
	}
	return list, err
}

func (f files) Walk(below string, visit func(name string, size int64) error) error {
	return f.Tree.Walk(below, func(name string, d fs.DirEntry) error {
		info, err := d.Info()
		if err != nil {
			return err
		}
		return visit(name, info.Size())
	})
}

type file struct{ *os.File }

func opened(f *os.File, err error) (File, error) {
	if err != nil {
		return nil, err
	}
	return file{f}, nil
}

func (f file) Begin(from, n int64) {
	_ = unix.SyncFileRange(int(f.Fd()), from, n, unix.SYNC_FILE_RANGE_WRITE)
}
