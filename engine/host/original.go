package host

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"velvetrewind/core/pg"
)

// Original is a server on this host that is not ours: how it runs, or ran last, so that it can be ended, and begun again, as it was.
type Original struct {
	DataDir     string            `json:"dataDir"`
	Major       int               `json:"major"`
	User        string            `json:"user"`           // OS user whose directory it is
	Unit        string            `json:"unit,omitempty"` // of systemd, that runs it
	Args        []string          `json:"args"`           // with which it was started, without the directory
	Log         string            `json:"log"`            // file that it writes to
	Running     bool              `json:"running"`
	Standby     bool              `json:"standby,omitempty"`     // it follows another
	Gone        bool              `json:"gone,omitempty"`        // its directory is lost; the rest is as it was last seen
	Locked      bool              `json:"locked,omitempty"`      // a repair has begun, and is not through: it cannot be started
	Tablespaces map[uint32]string `json:"tablespaces,omitempty"` // where each lies, by its OID
}

// The control file, without which no server starts, and its name for as long as a repair keeps one from starting.
const (
	controlFile   = "global/pg_control"
	LockedControl = controlFile + ".velvet-repair"
)

// server is the original as a server that we start and end.
func (o Original) server() Server { return Server{Major: o.Major, DataDir: o.DataDir, Log: o.Log} }

// ErrGone says that there is no cluster in a directory.
var ErrGone = errors.New("there is no cluster in it")

// Inspect looks at the server of a data directory.
func (h *Host) Inspect(dir string, systemID uint64) (o Original, err error) {
	o.DataDir = dir
	if resolved, err := filepath.EvalSymlinks(dir); errors.Is(err, fs.ErrNotExist) {
		return o, fmt.Errorf("%w: %w", ErrGone, err)
	} else if err != nil || resolved != filepath.Clean(dir) {
		return o, errors.Join(err, fmt.Errorf("%s leads elsewhere, over a link: %s", dir, resolved))
	}
	info, err := os.Lstat(dir)
	if err != nil {
		return o, err
	}
	owner, err := user.LookupId(strconv.Itoa(int(info.Sys().(*syscall.Stat_t).Uid)))
	if err != nil {
		return o, err
	}
	o.User = owner.Username
	if h, err = h.As(o.User); err != nil {
		return o, err
	}
	t, err := h.RealTree(dir)
	if err != nil {
		return o, err
	}
	defer func() { _ = t.Close() }()
	content, err := t.ReadFile(controlFile)
	if errors.Is(err, fs.ErrNotExist) {
		o.Locked = true
		content, err = t.ReadFile(LockedControl)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return o, fmt.Errorf("%w: %w", ErrGone, err)
	}
	if err != nil {
		return o, err
	}
	control, err := pg.ParseControl(content)
	if err != nil {
		return o, fmt.Errorf("%w: its control file: %w", ErrGone, err)
	}
	if control.SystemID != systemID {
		return o, fmt.Errorf("it is of the cluster with the system identifier %d, not %d", control.SystemID, systemID)
	}
	o.Major = control.Version.Major
	if o.Args, err = startedWith(t); err != nil {
		return o, err
	}
	if o.Tablespaces, err = t.tablespaces(); err != nil {
		return o, err
	}
	if _, err := t.Lstat("standby.signal"); err == nil {
		o.Standby = true
	}
	o.Log = dir + ".log"
	if o.Running = h.Running(o.server()); o.Running {
		h.observe(&o)
	}
	return o, nil
}

// observe learns from a running server's process what runs it and where it logs.
func (h *Host) observe(o *Original) {
	pid, err := h.PID(o.server())
	if err != nil {
		return
	}
	if log, err := os.Readlink(fmt.Sprintf("/proc/%d/fd/1", pid)); err == nil && filepath.IsAbs(log) && !strings.HasPrefix(log, "/dev/") {
		if info, err := os.Stat(log); err == nil && info.Mode().IsRegular() {
			o.Log = log
		}
	}
	if o.Unit = unitOf(strconv.Itoa(pid)); o.Unit != "" && !h.runs(o.Unit, pid) {
		o.Unit = "" // the process began in it, as one of cron's, and is not what it runs
	}
}

// runs tells whether a process is what a unit of systemd runs: only then it is stopped and started by that.
func (h *Host) runs(unit string, pid int) bool {
	const most = 5 * time.Second
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	said, err := exec.CommandContext(ctx, "systemctl", "show", "--property=MainPID", "--value", unit).Output()
	return err == nil && strings.TrimSpace(string(said)) == strconv.Itoa(pid)
}

// ConfigFile is the configuration file that the original was started with, if that lies outside of its directory.
func (o Original) ConfigFile() string {
	for _, a := range o.Args {
		if _, file, is := strings.Cut(a, "config_file="); is {
			return file
		}
	}
	return ""
}

var unitName = regexp.MustCompile(`^[A-Za-z0-9:_.@\\-]+\.service$`)

// unitOf is the service of systemd, if any, that a process belongs to.
func unitOf(pid string) string {
	content, err := os.ReadFile("/proc/" + pid + "/cgroup")
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(content)) {
		if name := filepath.Base(strings.TrimSpace(line)); unitName.MatchString(name) {
			return name
		}
	}
	return ""
}

// startedWith are the arguments in a server's postmaster.opts, without the directory.
func startedWith(t *Tree) (args []string, err error) {
	content, err := t.ReadFile("postmaster.opts")
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	_, rest, _ := strings.Cut(strings.TrimSpace(string(content)), ` "`)
	rest = strings.TrimSuffix(rest, `"`)
	if rest == "" {
		return nil, nil
	}
	args = strings.Split(rest, `" "`)
	if i := slices.Index(args, "-D"); i >= 0 {
		args = slices.Delete(args, i, min(i+2, len(args)))
	}
	return args, nil
}

// tablespaces reads where the links of a data directory lead.
func (t *Tree) tablespaces() (map[uint32]string, error) {
	entries, err := t.List("pg_tblspc")
	if err != nil {
		return nil, err
	}
	list := make(map[uint32]string)
	for _, e := range entries {
		oid, err := strconv.ParseUint(e.Name(), 10, 32)
		if err != nil || e.Type()&fs.ModeSymlink == 0 {
			continue // one that lies in the directory itself goes with it
		}
		if list[uint32(oid)], err = t.root.Readlink("pg_tblspc/" + e.Name()); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// TablespacesOf reads where the tablespaces of a data directory lie.
func (h *Host) TablespacesOf(user, dir string) (map[uint32]string, error) {
	own, err := h.As(user)
	if err != nil {
		return nil, err
	}
	t, err := own.RealTree(dir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = t.Close() }()
	return t.tablespaces()
}

// Link makes a link in the tree to a path, in place of what has the name.
func (t *Tree) Link(path, name string) error {
	if err := t.root.RemoveAll(name); err != nil {
		return err
	}
	if err := t.root.Symlink(path, name); err != nil || t.host.uid < 0 {
		return err
	}
	return t.root.Lchown(name, t.host.uid, t.host.gid)
}

// StopOriginal ends it, by what runs it, and waits for that; one that does not end in time is ended at once, and will recover when
// it is started again. One that does not run is no error.
func (h *Host) StopOriginal(ctx context.Context, o Original) error {
	own, err := h.As(o.User)
	if err != nil {
		return err
	}
	if !own.Running(o.server()) {
		return own.dropDead(o.server()) // or what takes its place could not listen where it did
	}
	if o.Unit != "" {
		if err = h.systemctl(ctx, "stop", o.Unit); err != nil && own.Running(o.server()) {
			return err // what else could end it might be begun again by the unit
		}
	} else {
		err = own.Stop(ctx, o.server(), Fast)
	}
	if own.Running(o.server()) && ctx.Err() == nil {
		err = errors.Join(err, own.Stop(ctx, o.server(), Immediate))
	}
	if own.Running(o.server()) {
		return errors.Join(err, fmt.Errorf("the server in %s still runs", o.DataDir))
	}
	return nil
}

// StartOriginal starts the server of its directory as the original was, if it does not run, and waits until it takes connections.
func (h *Host) StartOriginal(ctx context.Context, o Original) error {
	own, err := h.As(o.User)
	if err != nil {
		return err
	}
	if own.Running(o.server()) || own.Starting(o.server()) {
		return own.WaitReady(ctx, o.server())
	}
	if o.Unit != "" {
		if err := h.systemctl(ctx, "start", o.Unit); err != nil {
			return err
		}
		return own.WaitReady(ctx, o.server())
	}
	if own, err = own.inItsGroups(); err != nil {
		return err
	}
	if err := own.dropDead(o.server()); err != nil {
		return err
	}
	args := []string{"start", "--no-wait", "-D", o.DataDir, "-l", o.Log}
	if len(o.Args) > 0 {
		quoted := make([]string, len(o.Args))
		for i, a := range o.Args {
			quoted[i] = shellQuote(a)
		}
		args = append(args, "-o", strings.Join(quoted, " "))
	}
	if err := own.run(ctx, o.Major, "pg_ctl", args...); err != nil {
		return err
	}
	return own.WaitReady(ctx, o.server())
}

// inItsGroups is the host with all groups of the OS user, by one of which an original may read its TLS key.
func (h *Host) inItsGroups() (*Host, error) {
	if h.uid < 0 {
		return h, nil // what we start has ours
	}
	u, err := user.LookupId(strconv.Itoa(h.uid))
	if err != nil {
		return nil, err
	}
	ids, err := u.GroupIds()
	if err != nil {
		return nil, err
	}
	own := *h
	for _, id := range ids {
		n, err := strconv.ParseUint(id, 10, 32)
		if err != nil {
			return nil, err
		}
		own.groups = append(own.groups, uint32(n))
	}
	return &own, nil
}

// OriginalRunning tells whether a server runs on the original's directory.
func (h *Host) OriginalRunning(o Original) (bool, error) {
	own, err := h.As(o.User)
	return err == nil && own.Running(o.server()), err
}

// WorkedIn tells whether a process of a server works in a directory.
func (h *Host) WorkedIn(dir string) (bool, error) {
	is, err := os.Stat(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	list, err := filepath.Glob("/proc/[0-9]*")
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(list, func(process string) bool {
		name, err := os.ReadFile(process + "/comm")
		if err != nil || strings.TrimSpace(string(name)) != "postgres" {
			return false
		}
		at, err := os.Stat(process + "/cwd")
		return err == nil && os.SameFile(at, is)
	}), nil
}

// Control reads the control file of a data directory.
func (h *Host) Control(user, dir string) (c pg.Control, err error) {
	own, err := h.As(user)
	if err != nil {
		return c, err
	}
	t, err := own.RealTree(dir)
	if err != nil {
		return c, err
	}
	defer func() { _ = t.Close() }()
	content, err := t.ReadFile(controlFile)
	if errors.Is(err, fs.ErrNotExist) {
		if locked, e := t.ReadFile(LockedControl); e == nil {
			content, err = locked, nil
		}
	}
	if err != nil {
		return c, err
	}
	return pg.ParseControl(content)
}

// Spot tells what is at a path.
func (h *Host) Spot(path string) (s Spot, err error) {
	if s.Real, err = filepath.EvalSymlinks(path); err != nil {
		return s, err
	}
	var st unix.Stat_t
	if err := unix.Stat(s.Real, &st); err != nil {
		return s, &fs.PathError{Op: "stat", Path: s.Real, Err: err}
	}
	if s.Free, err = h.FreeSpace(s.Real); err != nil {
		return s, err
	}
	s.Device, s.Dir = st.Dev, st.Mode&unix.S_IFMT == unix.S_IFDIR
	return s, nil
}

// Move gives a directory another name.
func (h *Host) Move(from, to string) error {
	if _, err := os.Lstat(from); errors.Is(err, fs.ErrNotExist) {
		_, err := os.Lstat(to)
		return err
	}
	out, err := openReal(filepath.Dir(from))
	if err != nil {
		return err
	}
	defer func() { _ = out.Close() }()
	in, err := openReal(filepath.Dir(to))
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	err = unix.Renameat2(int(out.Fd()), filepath.Base(from), int(in.Fd()), filepath.Base(to), unix.RENAME_NOREPLACE)
	if err != nil {
		return fmt.Errorf("rename %s to %s: %w", from, to, err)
	}
	return errors.Join(in.Sync(), out.Sync())
}

// setAside is how the name of a directory ends that a takeover has set aside, without the time.
const setAside = ".velvet-aside-"

// AsideName is what is appended, at a time, to the names of directories that are set aside.
func AsideName(at time.Time) string { return setAside + at.UTC().Format(asideTime) }

const asideTime = "20060102T150405Z"

var asideName = regexp.MustCompile(regexp.QuoteMeta(setAside) + `\d{8}T\d{6}Z$`)

// Aside is a directory that was set aside, or in which a repair has kept what stood where it wrote.
type Aside struct {
	Path  string
	Bytes int64 // on disk
	At    time.Time
}

// Asides lists what is set aside of a directory, beside it.
func (h *Host) Asides(dir string) (list []Aside, err error) {
	parent, err := h.RealTree(filepath.Dir(dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	entries, err := parent.List(".")
	if err := errors.Join(err, parent.Close()); err != nil {
		return nil, err
	}
	for _, e := range entries {
		when, is := strings.CutPrefix(e.Name(), filepath.Base(dir)+setAside)
		if !is || !e.IsDir() || !asideName.MatchString(e.Name()) {
			continue
		}
		a := Aside{Path: filepath.Join(filepath.Dir(dir), e.Name())}
		if a.At, err = time.Parse(asideTime, when); err != nil {
			return nil, err
		}
		t, err := h.RealTree(a.Path)
		if err != nil {
			return nil, err
		}
		a.Bytes, err = t.Used()
		if err := errors.Join(err, t.Close()); err != nil {
			return nil, err
		}
		list = append(list, a)
	}
	return list, nil
}

// IsAsideName tells whether a name is what AsideName makes.
func IsAsideName(suffix string) bool { return asideName.FindString(suffix) == suffix && suffix != "" }

// RemoveAside removes what was set aside, or brought.
func (h *Host) RemoveAside(dir string) error {
	if !asideName.MatchString(dir) && !broughtName.MatchString(dir) {
		return fmt.Errorf("%s was not set aside", dir)
	}
	parent, err := h.RealTree(filepath.Dir(dir))
	if err != nil {
		return err
	}
	return errors.Join(parent.Remove(filepath.Base(dir)), parent.Close())
}

// openReal opens a directory to which no link leads.
func openReal(dir string) (*os.File, error) {
	fd, err := unix.Openat2(unix.AT_FDCWD, dir, &unix.OpenHow{Flags: unix.O_DIRECTORY | unix.O_RDONLY | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_NO_SYMLINKS})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	return os.NewFile(uintptr(fd), dir), nil
}

// rootOf has an open directory be the root of names.
func rootOf(dir *os.File) (*os.Root, error) {
	return os.OpenRoot(fmt.Sprintf("/proc/self/fd/%d", dir.Fd()))
}
