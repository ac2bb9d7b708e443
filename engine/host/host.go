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
	"strings"
	"sync"
	"syscall"
)

// Host is the machine that the service itself runs on.
type Host struct {
	uid, gid int // -1: whoever we are
	name     string
	groups   []uint32 // further ones, that what it starts belongs to
	binDirs  string   // pattern with one %d for the major version
	others   map[string]*Host
	bringing *sync.Mutex // shared by all of them
}

// DefaultTools is where Debian's packages put a server's programs.
const DefaultTools = "/usr/lib/postgresql/%d/bin"

// Local gives the machine we run on. runAs are the OS users that may own copies and run servers,
// with commas; the first one does unless another is asked for. They are needed only when we are
// root, and must be "" or ourselves otherwise. tools is the directory of the server's programs, with
// %d for the major version.
func Local(runAs, tools string) (*Host, error) {
	first, rest, _ := strings.Cut(runAs, ",")
	h, err := localAs(strings.TrimSpace(first), tools)
	if err != nil || rest == "" {
		return h, err
	}
	h.others = make(map[string]*Host)
	for name := range strings.SplitSeq(rest, ",") {
		if h.others[strings.TrimSpace(name)], err = localAs(strings.TrimSpace(name), tools); err != nil {
			return nil, err
		}
	}
	return h, nil
}

// As gives the host with another OS user, which must be one of those that Local was given; "" is
// the first.
func (h *Host) As(user string) (*Host, error) {
	if user == "" || user == h.name {
		return h, nil
	}
	if o, ok := h.others[user]; ok {
		return o, nil
	}
	return nil, fmt.Errorf("copies may not run as the OS user %q; serve with it in --run-as %s,%s", user, h.name, user)
}

func localAs(runAs, tools string) (*Host, error) {
	h := &Host{uid: -1, gid: -1, binDirs: tools, bringing: new(sync.Mutex)}
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

// MakeDir makes one directory that belongs to the OS user; it may be there already. Nobody else
// may be able to write where it lies.
func (h *Host) MakeDir(path string, mode fs.FileMode) error {
	return h.within(path, func(t *Tree, name string) error { return t.MakeDir(name, mode) })
}

// Create opens a new file that belongs to the OS user; it must not be there yet.
func (h *Host) Create(path string, mode fs.FileMode) (f *os.File, err error) {
	err = h.within(path, func(t *Tree, name string) error {
		f, err = t.Create(name, mode)
		return err
	})
	return f, err
}

// WriteFile puts a small file in place: written aside, flushed, renamed.
func (h *Host) WriteFile(path string, content []byte, mode fs.FileMode) error {
	return h.within(path, func(t *Tree, name string) error { return t.WriteFile(name, content, mode) })
}

// within works in the directory that holds path.
func (h *Host) within(path string, do func(t *Tree, name string) error) error {
	t, err := h.Tree(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(do(t, filepath.Base(path)), t.Close())
}

// MakeClosedDir makes a directory that is ours, and that the OS user may enter and not change. It
// may be there already.
func (h *Host) MakeClosedDir(path string) error {
	if err := h.MakeDir(path, 0o750); err != nil || h.uid < 0 {
		return err
	}
	return os.Lchown(path, os.Geteuid(), h.gid)
}

// SyncDir flushes a directory's entries.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// RemoveTree removes a directory. Nobody else may be able to write where it lies.
func (h *Host) RemoveTree(dir string) error {
	if _, err := os.Lstat(dir); errors.Is(err, os.ErrNotExist) {
		return nil // a file system that cannot be written refuses to remove even what is not there
	}
	return os.RemoveAll(dir)
}

// FreeSpace is how many bytes can still be written below dir.
func (h *Host) FreeSpace(dir string) (int64, error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * st.Bsize, nil
}

// FreeMemory is how many bytes of memory are free, or can be made so at once.
func (h *Host) FreeMemory() (int64, error) {
	content, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(content)) {
		if after, is := strings.CutPrefix(line, "MemAvailable:"); is {
			kib, err := strconv.ParseInt(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(after), "kB")), 10, 64)
			return kib << 10, err
		}
	}
	return 0, errors.New("/proc/meminfo does not tell MemAvailable")
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
		return nil, fmt.Errorf("PostgreSQL %d is not installed here (%s is missing); install the package postgresql-%d, or name the "+
			"directory of its programs with --programs", major, path, major)
	}
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin", "LC_ALL=C", "TZ=UTC"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if h.uid >= 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(h.uid), Gid: uint32(h.gid), Groups: h.groups}
	}
	return cmd, nil
}

// HasPrograms says what is missing to run a server of a major version here.
func (h *Host) HasPrograms(major int) error {
	_, err := h.command(context.Background(), major, "postgres")
	return err
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

// systemctl has systemd do something with a unit.
func (h *Host) systemctl(ctx context.Context, verb, unit string) error {
	if !unitName.MatchString(unit) {
		return fmt.Errorf("%q is no name of a unit", unit)
	}
	said, err := exec.CommandContext(ctx, "systemctl", verb, unit).CombinedOutput()
	if err != nil {
		return fmt.Errorf("systemctl %s %s: %w: %s", verb, unit, err, strings.TrimSpace(string(said)))
	}
	return nil
}
