package host

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"velvetrewind/core/pg"
)

// Server is a PostgreSQL server of ours on this host: a copy, or in the demo and
// the tests an original.
type Server struct {
	Major   int
	DataDir string
	Port    int
	Socket  string // directory of its Unix socket
	Log     string // file that it logs to
}

// InitOptions choose how a new data directory is made.
type InitOptions struct {
	Superuser   string
	Password    string // of the superuser; "" trusts every local login
	Checksums   bool
	SegmentSize int  // MiB, 0 for the default
	Sync        bool // flush everything; a server that can be made again need not
}

// InitDB makes a new, empty data directory.
func (h *Host) InitDB(ctx context.Context, s Server, opt InitOptions) error {
	args := []string{"-D", s.DataDir, "-U", opt.Superuser, "-E", "UTF8", "--locale=C.UTF-8", "--no-instructions"}
	if !opt.Sync {
		args = append(args, "--no-sync")
	}
	if opt.Checksums {
		args = append(args, "--data-checksums")
	}
	if opt.SegmentSize > 0 {
		args = append(args, "--wal-segsize", strconv.Itoa(opt.SegmentSize))
	}
	if opt.Password != "" {
		file := s.DataDir + ".password"
		if err := h.WriteFile(file, []byte(opt.Password+"\n"), 0o600); err != nil {
			return err
		}
		defer func() { _ = os.Remove(file) }()
		args = append(args, "--auth=scram-sha-256", "--pwfile", file)
	} else {
		args = append(args, "--auth=trust")
	}
	return h.run(ctx, s.Major, "initdb", args...)
}

// Start starts the server in the background. It does not wait for its postmaster.pid, nor for
// connections: a recovering server may take long until it allows them.
func (h *Host) Start(ctx context.Context, s Server) error {
	if _, err := os.Stat(s.Log); err != nil {
		f, err := h.Create(s.Log, 0o600)
		if err != nil {
			return err
		}
		_ = f.Close()
	}
	if err := h.dropDead(s); err != nil {
		return err
	}
	return h.run(ctx, s.Major, "pg_ctl", "start", "--no-wait", "-D", s.DataDir, "-l", s.Log,
		"-o", fmt.Sprintf("-p %d -k %s", s.Port, shellQuote(s.Socket)))
}

// dropDead removes the lock files of a server that was killed and whose process nobody has
// taken notice of, as in a container without an init: the server takes it for alive, and refuses
// to start for ever.
func (h *Host) dropDead(s Server) error {
	pid, err := h.PID(s)
	if err != nil {
		return nil // there is none, or the server will judge it
	}
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return nil
	}
	if _, state, ok := strings.Cut(string(stat), ") "); !ok || !strings.HasPrefix(state, "Z") {
		return nil
	}
	if s, err = h.Listening(s); err == nil {
		lock := filepath.Join(s.Socket, fmt.Sprintf(".s.PGSQL.%d.lock", s.Port))
		if err := h.within(lock, dropPlain); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return h.within(filepath.Join(s.DataDir, "postmaster.pid"), func(t *Tree, name string) error { return t.Remove(name) })
}

// dropPlain removes a plain file of the OS user.
func dropPlain(t *Tree, name string) error {
	f, err := t.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(f.Close(), t.Remove(name))
}

// StartAndWait starts the server and waits until it accepts connections.
func (h *Host) StartAndWait(ctx context.Context, s Server) error {
	if err := h.Start(ctx, s); err != nil {
		return err
	}
	return h.WaitReady(ctx, s)
}

// lockFile reads the server's postmaster.pid.
func (h *Host) lockFile(s Server) (content []byte, err error) {
	err = h.within(filepath.Join(s.DataDir, "postmaster.pid"), func(t *Tree, name string) error {
		content, err = t.ReadFile(name)
		return err
	})
	return content, err
}

// OpenLog opens the server's log for reading.
func (h *Host) OpenLog(s Server) (f *os.File, err error) {
	err = h.within(s.Log, func(t *Tree, name string) error {
		f, err = t.Open(name)
		return err
	})
	return f, err
}

// Lines of postmaster.pid (utils/pidfile.h), counted from 0.
const (
	pidPort   = 3
	pidSocket = 4
	pidStatus = 7
)

// Listening is where a running server listens, by what it says itself.
func (h *Host) Listening(s Server) (Server, error) {
	content, err := h.lockFile(s)
	if err != nil {
		return s, err
	}
	lines := strings.Split(string(content), "\n")
	if len(lines) <= pidSocket || lines[pidSocket] == "" {
		return s, errors.New("its postmaster.pid names no socket")
	}
	s.Socket = strings.TrimSpace(lines[pidSocket])
	s.Port, err = strconv.Atoi(strings.TrimSpace(lines[pidPort]))
	return s, err
}

// WaitReady waits until a server that was started accepts connections.
func (h *Host) WaitReady(ctx context.Context, s Server) error {
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for started := time.Now(); ; {
		content, err := h.lockFile(s)
		lines := strings.Split(string(content), "\n")
		if err == nil && len(lines) > pidStatus {
			if st := strings.TrimSpace(lines[pidStatus]); (st == "ready" || st == "standby") && h.Running(s) { // not what a killed one left
				return nil
			}
		}
		if !h.Running(s) && time.Since(started) > 2*time.Second && !h.Starting(s) {
			return fmt.Errorf("the server did not start; its log %s ends:\n%s", s.Log, h.LogTail(s, 1500))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
}

// Starting tells whether a process lives that was told to be this server: on a busy machine it may take
// long to write its postmaster.pid.
func (h *Host) Starting(s Server) bool {
	list, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		return false
	}
	return slices.ContainsFunc(list, func(path string) bool {
		line, err := os.ReadFile(path)
		if err != nil || !bytes.Contains(line, []byte("postgres")) {
			return false
		}
		// The server itself is given the directory as it is, the shell that becomes it in quotes: no other
		// directory whose name only begins like it is meant.
		return bytes.Contains(line, []byte("-D\x00"+s.DataDir+"\x00")) || bytes.Contains(line, []byte(`-D "`+s.DataDir+`"`))
	})
}

// StopMode is how a server is told to end.
type StopMode string

// The modes that are used: Fast ends sessions and writes a checkpoint, Immediate does neither.
const (
	Fast      StopMode = "fast"
	Immediate StopMode = "immediate"
)

// Stop ends the server and waits for it; one that does not run is no error.
func (h *Host) Stop(ctx context.Context, s Server, mode StopMode) error {
	if !h.Running(s) {
		return nil
	}
	err := h.run(ctx, s.Major, "pg_ctl", "stop", "-w", "-t", "120", "-m", string(mode), "-D", s.DataDir)
	if err != nil && !h.Running(s) {
		return nil
	}
	return err
}

// Running tells whether the server's first process lives. A process that has its number and
// works elsewhere is another one, as after a crash of the machine.
func (h *Host) Running(s Server) bool {
	pid, err := h.PID(s)
	if err != nil || syscall.Kill(pid, 0) != nil {
		return false
	}
	works, err := os.Stat(fmt.Sprintf("/proc/%d/cwd", pid))
	if err != nil {
		return errors.Is(err, os.ErrPermission) // else it has ended and nobody has noticed
	}
	data, err := os.Stat(s.DataDir)
	return err == nil && os.SameFile(works, data)
}

// PID is the process id of the server's first process.
func (h *Host) PID(s Server) (int, error) {
	content, err := h.lockFile(s)
	if err != nil {
		return 0, err
	}
	line, _, _ := strings.Cut(string(content), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(line))
	if err != nil || pid <= 1 {
		return 0, errors.New("postmaster.pid names no process")
	}
	return pid, nil
}

// LogTail is the end of the server's log, at most n bytes, from a line's beginning.
func (h *Host) LogTail(s Server, n int64) string {
	f, err := h.OpenLog(s)
	if err != nil {
		return ""
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return ""
	}
	at := max(0, info.Size()-n)
	b := make([]byte, info.Size()-at)
	read, _ := f.ReadAt(b, at)
	b = b[:read]
	if at > 0 {
		if i := bytes.IndexByte(b, '\n'); i >= 0 {
			b = b[i+1:]
		}
	}
	return strings.TrimSpace(string(b))
}

func (h *Host) run(ctx context.Context, major int, name string, args ...string) error {
	cmd, err := h.command(ctx, major, name, args...)
	if err != nil {
		return err
	}
	// A file, not a pipe: a server started by pg_ctl would hold a pipe open.
	out, err := os.CreateTemp("", "velvet-"+name+"-*")
	if err != nil {
		return err
	}
	defer func() { _ = out.Close(); _ = os.Remove(out.Name()) }()
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Run(); err != nil {
		said, _ := os.ReadFile(out.Name())
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(said)))
	}
	return nil
}

// shellQuote quotes a word for a POSIX shell.
func shellQuote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// RestoreCommand makes the shell command by which a recovering server asks for
// WAL; %f and %p are left for the server to fill in. Segments that are ready, in a directory
// below ahead that has the name of the machine's start, are only moved; "" for none.
func RestoreCommand(program, ticket, ahead string) string {
	escape := func(s string) string { return strings.ReplaceAll(shellQuote(s), "%", "%%") }
	deliver := escape(program) + " segment deliver --ticket " + escape(ticket) + ` "%f" "%p"`
	if ahead == "" {
		return deliver
	}
	return "read -r boot < " + bootID + " && mv " + escape(ahead) + `/"$boot/%f" "%p" 2> /dev/null || exec ` + deliver
}

// bootID is another each time that the machine is started.
const bootID = "/proc/sys/kernel/random/boot_id"

// Boot tells since when the machine is up: it is another text after each start.
func Boot() (string, error) {
	b, err := os.ReadFile(bootID)
	return strings.TrimSpace(string(b)), err
}

// SocketPath is where a server's Unix socket lies: below dir if its path is short enough for a
// socket, else in the system's temporary directory, by a name that follows from dir.
func (h *Host) SocketPath(dir string) string {
	const longest = 80 // of 107 bytes, leaving room for ".s.PGSQL.65535.lock"
	if path := filepath.Join(dir, "socket"); len(path) <= longest {
		return path
	}
	sum := sha256.Sum256([]byte(dir))
	return filepath.Join(os.TempDir(), fmt.Sprintf("velvet-%x", sum[:12]))
}

// SocketDir makes the directory of a server's Unix socket, which only the OS user may enter.
func (h *Host) SocketDir(dir string) (string, error) {
	path := h.SocketPath(dir)
	if info, err := os.Lstat(path); err == nil {
		st, ok := info.Sys().(*syscall.Stat_t)
		if !ok || !info.IsDir() || int(st.Uid) != os.Geteuid() && int(st.Uid) != h.uid {
			return "", fmt.Errorf("%s is not ours; remove it, or see who made it", path)
		}
	}
	return path, h.MakeDir(path, 0o700)
}

// InstalledMajor is the newest supported major version of PostgreSQL whose programs are installed.
func (h *Host) InstalledMajor() (int, error) {
	for _, v := range slices.Backward(pg.Versions()) {
		if _, err := os.Stat(filepath.Join(fmt.Sprintf(h.binDirs, v.Major), "initdb")); err == nil {
			return v.Major, nil
		}
	}
	return 0, fmt.Errorf("no PostgreSQL %s is installed below %s; install the package postgresql, or name the directory of its programs "+
		"with --programs", pg.SupportedVersions(), h.binDirs)
}
