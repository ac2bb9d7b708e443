package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// Host is the machine that the service itself runs on.
type Host struct {
	uid, gid int // -1: whoever we are
	name     string
	binDirs  string // pattern with one %d for the major version
}

// DefaultTools is where Debian's packages put a server's programs.
const DefaultTools = "/usr/lib/postgresql/%d/bin"

// Local gives the machine we run on. runAs is the OS user that owns copies and
// runs servers; it is needed only when we are root, and must be "" or ourselves
// otherwise. tools is the directory of the server's programs, with %d for the major version.
func Local(runAs, tools string) (*Host, error) {
	h := &Host{uid: -1, gid: -1, binDirs: tools}
	if h.binDirs == "" {
		h.binDirs = DefaultTools
	}
	if os.Geteuid() != 0 {
		me, err := user.Current()
		if err != nil {
			return nil, err
		}
		if runAs != "" && runAs != me.Username {
			return nil, fmt.Errorf("only root can run servers as %q; run velvet as that user, or as root", runAs)
		}
		h.name = me.Username
		return h, nil
	}
	if runAs == "" {
		runAs = "postgres"
	}
	u, err := user.Lookup(runAs)
	if err != nil {
		return nil, fmt.Errorf("the OS user to run servers as: %w; install PostgreSQL or name another with --run-as", err)
	}
	h.name = u.Username
	if h.uid, err = strconv.Atoi(u.Uid); err != nil {
		return nil, err
	}
	if h.gid, err = strconv.Atoi(u.Gid); err != nil {
		return nil, err
	}
	if h.uid == 0 {
		return nil, errors.New("PostgreSQL refuses to run as root; name another OS user with --run-as")
	}
	return h, nil
}

// Group is the group of the OS user, or -1 where we are that user ourselves.
func (h *Host) Group() int { return h.gid }

// User is the name of the OS user that servers run as.
func (h *Host) User() string { return h.name }

// MakeDir makes one directory that belongs to the OS user; it may be there already.
func (h *Host) MakeDir(path string, mode fs.FileMode) error {
	if err := os.Mkdir(path, mode); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := os.Chmod(path, mode); err != nil {
		return err
	}
	return h.own(path)
}

func (h *Host) own(path string) error {
	if h.uid < 0 {
		return nil
	}
	return os.Lchown(path, h.uid, h.gid)
}

// Create opens a new file that belongs to the OS user; it must not be there yet.
func (h *Host) Create(path string, mode fs.FileMode) (*os.File, error) {
	return h.open(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
}

// Reopen opens a file for reading and writing, with what it holds, or a new one; a link
// is not followed. It belongs to the OS user then.
func (h *Host) Reopen(path string, mode fs.FileMode) (*os.File, error) {
	return h.open(path, os.O_RDWR|os.O_CREATE|unix.O_NOFOLLOW, mode)
}

func (h *Host) open(path string, how int, mode fs.FileMode) (*os.File, error) {
	f, err := os.OpenFile(path, how, mode)
	if err != nil {
		return nil, err
	}
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

// WriteFile puts a small file in place: written aside, flushed, renamed.
func (h *Host) WriteFile(path string, content []byte, mode fs.FileMode) error {
	aside := path + ".new"
	if err := os.Remove(aside); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := h.Create(aside, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	err = errors.Join(err, f.Sync(), f.Close())
	if err != nil {
		return err
	}
	if err := os.Rename(aside, path); err != nil {
		return err
	}
	return SyncDir(filepath.Dir(path))
}

// SyncDir flushes a directory's entries.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// OpenFile reads a file of a data directory.
func (h *Host) OpenFile(path string) (*os.File, error) { return os.Open(path) }

// ReadFile reads a small file of a data directory.
func (h *Host) ReadFile(path string) ([]byte, error) { return os.ReadFile(path) }

// Walk visits every regular file below root, following the links in pg_tblspc,
// with its path relative to root.
func (h *Host) Walk(root string, visit func(rel string, d fs.DirEntry) error) error {
	return h.walk(root, ".", visit)
}

func (h *Host) walk(root, below string, visit func(rel string, d fs.DirEntry) error) error {
	entries, err := os.ReadDir(filepath.Join(root, below))
	if err != nil {
		return err
	}
	for _, e := range entries {
		rel := filepath.Join(below, e.Name())
		link := e.Type()&fs.ModeSymlink != 0 && below == "pg_tblspc"
		switch {
		case e.IsDir() || link:
			err = h.walk(root, rel, visit)
		case e.Type().IsRegular():
			err = visit(rel, e)
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

// RemoveTree removes a directory that holds a copy.
func (h *Host) RemoveTree(dir string) error { return os.RemoveAll(dir) }

// Used is how many bytes the regular files of a data directory take, its tablespaces' too.
func (h *Host) Used(root string) (total int64, err error) {
	err = h.Walk(root, func(_ string, d fs.DirEntry) error {
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

// FreeSpace is how many bytes can still be written below dir.
func (h *Host) FreeSpace(dir string) (int64, error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * st.Bsize, nil
}

// Ports that the system does not give to outgoing connections: one of those might be
// taken by the time a copy is laid out and listens on it.
const firstPort, lastPort = 20_000, 32_767

// FreePort finds a loopback TCP port on which nothing listens.
func (h *Host) FreePort() (int, error) {
	for range 100 {
		if port := firstPort + rand.IntN(lastPort-firstPort+1); !h.PortTaken(port) {
			return port, nil
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// PortTaken says whether something listens on a loopback port already.
func (h *Host) PortTaken(port int) bool {
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return true
	}
	_ = l.Close()
	return false
}

// command prepares a program of the server, run as the OS user, with a bare environment.
func (h *Host) command(ctx context.Context, major int, name string, args ...string) (*exec.Cmd, error) {
	path := filepath.Join(fmt.Sprintf(h.binDirs, major), name)
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("PostgreSQL %d is not installed here (%s is missing); install the package postgresql-%d, or name the directory of its programs with --programs", major, path, major)
	}
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin", "LC_ALL=C", "TZ=UTC"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if h.uid >= 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(h.uid), Gid: uint32(h.gid)}
	}
	return cmd, nil
}

// HasPrograms says what is missing to run a server of a major version here.
func (h *Host) HasPrograms(major int) error {
	_, err := h.command(context.Background(), major, "postgres")
	return err
}

// SyncFileSystem flushes everything on the file system that holds path.
func (h *Host) SyncFileSystem(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(unix.Syncfs(int(d.Fd())), d.Close())
}

// InstallProgram puts a copy of the running program where the OS user may execute
// it, for a recovering server to call, and returns its path.
func (h *Host) InstallProgram(dir string) (string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "velvet")
	in, err := os.Open(self)
	if err != nil {
		return "", err
	}
	defer func() { _ = in.Close() }()
	out, err := os.CreateTemp(dir, "velvet.*")
	if err != nil {
		return "", err
	}
	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Chmod(0o755), out.Sync(), out.Close()); err == nil {
		err = os.Rename(out.Name(), path)
	}
	if err != nil {
		return "", errors.Join(err, os.Remove(out.Name()))
	}
	return path, SyncDir(dir)
}
