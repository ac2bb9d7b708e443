// Package testbed gives tests real servers: PostgreSQL from the system's packages
// and the velvet program itself, on loopback, in directories of their own.
//
// Invariant: whatever a bed starts has ended when its test has.
package testbed

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/host"
)

// Bed is a directory with servers in it, for one test or benchmark.
type Bed struct {
	testing.TB
	Host  *host.Host
	Dir   string
	Major int // version of its servers
}

// New makes a bed with servers of Debian's version. Its directory can be entered by the
// servers' OS user.
func New(t testing.TB) *Bed { return NewOf(t, packaged) }

// NewOf makes a bed with servers of a version.
func NewOf(t testing.TB, major int) *Bed {
	tools, err := Programs()
	require.NoError(t, err)
	h, err := host.Local("", tools)
	require.NoError(t, err)
	dir, err := os.MkdirTemp("", "velvet-test-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o711))
	return &Bed{TB: t, Host: h, Dir: dir, Major: major}
}

// Path is a path below the bed's directory.
func (b *Bed) Path(names ...string) string {
	return filepath.Join(append([]string{b.Dir}, names...)...)
}

// Passwords of the servers of a bed.
const (
	Superuser = "harbourmaster"
	Password  = "password of one test"
)

// Postgres is a PostgreSQL server.
type Postgres struct {
	host.Server
	bed *Bed
	// Machine is where it runs; nil for this one.
	Machine *Machine
}

// MoveTo has the server run on another machine from now on, where ours may reach it.
func (p *Postgres) MoveTo(m *Machine) {
	p.Stop(host.Fast)
	p.Configure("listen_addresses = '*'")
	f, err := os.OpenFile(filepath.Join(p.DataDir, "pg_hba.conf"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(p.bed, err)
	_, err = fmt.Fprint(f, "host all,replication all 10.213.0.0/16 scram-sha-256\n")
	require.NoError(p.bed, err)
	require.NoError(p.bed, f.Close())
	p.Machine = m
	p.Start()
}

// Postgres starts a server with the given lines added to its configuration.
func (b *Bed) Postgres(name string, checksums bool, settings ...string) *Postgres {
	return b.PostgresMade(name, host.InitOptions{Superuser: Superuser, Password: Password, Checksums: checksums}, settings...)
}

// PostgresMade starts a server whose data directory is made in a certain way.
func (b *Bed) PostgresMade(name string, opt host.InitOptions, settings ...string) *Postgres {
	p := &Postgres{bed: b, Server: host.Server{Major: b.Major, DataDir: b.Path(name, "data"), Log: b.Path(name, "log")}}
	for _, d := range []string{b.Path(name), p.DataDir} {
		require.NoError(b, b.Host.MakeDir(d, 0o700))
	}
	var err error
	p.Socket, err = b.Host.SocketDir(b.Path(name))
	require.NoError(b, err)
	require.NoError(b, b.Host.InitDB(b.ctx(), p.Server, opt))
	p.Configure(append([]string{"listen_addresses = '127.0.0.1'", "fsync = off", "max_wal_size = '4GB'"}, settings...)...)
	b.Cleanup(func() { _ = b.Host.Stop(context.Background(), p.Server, host.Immediate) })
	p.startSomewhere()
	return p
}

// startSomewhere starts the server on a free port. Tests beside this one look for ports, too: another is chosen where one was quicker.
func (p *Postgres) startSomewhere() {
	const tries = 5
	for n := 1; ; n++ {
		port, err := p.bed.Host.FreePort()
		require.NoError(p.bed, err)
		p.Port = port
		err = p.bed.Host.StartAndWait(p.bed.ctx(), p.Server)
		if err == nil || n == tries || !strings.Contains(err.Error(), "Address already in use") {
			require.NoError(p.bed, err, p.bed.Host.LogTail(p.Server, 2000))
			return
		}
	}
}

// OnAnotherDisk makes a directory on another file system than that of the test's other files.
func (b *Bed) OnAnotherDisk(name string) string {
	dir, err := os.MkdirTemp("/dev/shm", "velvet-test-")
	require.NoError(b, err)
	b.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(b, os.Chmod(dir, 0o755))
	path := filepath.Join(dir, name)
	require.NoError(b, b.Host.MakeDir(path, 0o700))
	return path
}

// Beside is a server of which the test has made the data directory itself; it is not started yet.
func (b *Bed) Beside(at host.Server) *Postgres {
	p := &Postgres{bed: b, Server: at}
	b.Cleanup(func() { _ = b.Host.Stop(context.Background(), p.Server, host.Immediate) })
	return p
}

func (b *Bed) ctx() context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	b.Cleanup(cancel)
	return ctx
}

// Configure adds lines to the server's configuration, for its next start.
func (p *Postgres) Configure(lines ...string) {
	f, err := os.OpenFile(filepath.Join(p.DataDir, "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(p.bed, err)
	for _, l := range lines {
		_, err = fmt.Fprintln(f, l)
		require.NoError(p.bed, err)
	}
	require.NoError(p.bed, f.Close())
}

// Start starts the server and waits until it accepts connections.
func (p *Postgres) Start() {
	if p.Machine != nil {
		out, err := p.Machine.Inside("setpriv", "--reuid="+p.bed.Host.User(), "--regid="+p.bed.Host.User(), "--init-groups",
			fmt.Sprintf(programs(p.bed), p.Major)+"/pg_ctl", "start", "-D", p.DataDir, "-l", p.Log, "-o", fmt.Sprintf("-p %d -k %s", p.Port,
				p.Socket)).CombinedOutput()
		require.NoError(p.bed, err, string(out))
		return
	}
	require.NoError(p.bed, p.bed.Host.StartAndWait(p.bed.ctx(), p.Server), p.bed.Host.LogTail(p.Server, 2000))
}

// Stop ends the server.
func (p *Postgres) Stop(mode host.StopMode) {
	require.NoError(p.bed, p.bed.Host.Stop(p.bed.ctx(), p.Server, mode))
}

// Answers tells whether the server accepts connections.
func (p *Postgres) Answers() bool {
	conn, err := pgx.Connect(p.bed.ctx(), p.DSN(Superuser, "postgres")+" connect_timeout=2 password='"+Password+"'")
	if err != nil {
		return false
	}
	_ = conn.Close(context.Background())
	return true
}

// Kill ends the server at once, as the kernel would, and waits until nothing of it is left.
func (p *Postgres) Kill() {
	content, err := os.ReadFile(filepath.Join(p.DataDir, "postmaster.pid"))
	require.NoError(p.bed, err)
	pid, err := strconv.Atoi(strings.TrimSpace(strings.SplitN(string(content), "\n", 2)[0]))
	require.NoError(p.bed, err)
	children := childrenOf(p.bed, pid)
	require.NoError(p.bed, syscall.Kill(pid, syscall.SIGKILL), p.bed.Host.LogTail(p.Server, 3000))
	for _, child := range append(children, pid) { // they notice, but a start in between would be refused
		p.bed.Eventually(fmt.Sprintf("the server's process %d has ended", child), func() bool {
			_, state := parentOf(child)
			return state == "" || state == "Z"
		})
	}
}

// childrenOf lists the processes that a process has started.
func childrenOf(b *Bed, pid int) (list []int) {
	all, err := filepath.Glob("/proc/[0-9]*")
	require.NoError(b, err)
	for _, dir := range all {
		n, err := strconv.Atoi(filepath.Base(dir))
		require.NoError(b, err)
		if parent, _ := parentOf(n); parent == pid {
			list = append(list, n)
		}
	}
	return list
}

// parentOf gives a process's parent, and its state, which is "" where there is no such process.
func parentOf(pid int) (parent int, state string) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, ""
	}
	_, after, _ := strings.Cut(string(stat), ") ")
	fields := strings.Fields(after)
	parent, _ = strconv.Atoi(fields[1])
	return parent, fields[0]
}

// DSN is a connection string for a role, without its password.
func (p *Postgres) DSN(user, database string) string {
	address := "127.0.0.1"
	if p.Machine != nil {
		address = p.Machine.Theirs
	}
	return fmt.Sprintf("host=%s port=%d user=%s dbname='%s' sslmode=disable", address, p.Port, user, database)
}

// Connect opens a session as the superuser; it is closed with the test.
func (p *Postgres) Connect(database string) *pgx.Conn {
	conn, err := pgx.Connect(p.bed.ctx(), p.DSN(Superuser, database)+" password='"+Password+"'")
	require.NoError(p.bed, err)
	p.bed.Cleanup(func() { _ = conn.Close(context.Background()) })
	return conn
}

// Exec runs statements as the superuser, each on its own.
func (p *Postgres) Exec(database string, statements ...string) {
	conn := p.Connect(database)
	for _, s := range statements {
		_, err := conn.Exec(p.bed.ctx(), s)
		require.NoError(p.bed, err, s)
	}
	require.NoError(p.bed, conn.Close(p.bed.ctx()))
}

// One reads one value.
func One[T any](b *Bed, conn *pgx.Conn, query string, args ...any) T {
	var v T
	require.NoError(b, conn.QueryRow(b.ctx(), query, args...).Scan(&v), query)
	return v
}

// All asks a server for a column.
func All[T any](b *Bed, conn *pgx.Conn, query string, args ...any) []T {
	rows, err := conn.Query(b.ctx(), query, args...)
	require.NoError(b, err, query)
	list, err := pgx.CollectRows(rows, pgx.RowTo[T])
	require.NoError(b, err, query)
	return list
}

// Program runs one of PostgreSQL's own client programs for tests, psql or pgbench; those of
// Debian's version talk to servers of every version.
func (p *Postgres) Program(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(fmt.Sprintf(host.DefaultTools, packaged)+"/"+name,
		append([]string{"-h", "127.0.0.1", "-p", fmt.Sprint(p.Port), "-U", Superuser}, args...)...)
	cmd.Env = append(os.Environ(), "PGPASSWORD="+Password)
	return cmd
}

// Program builds the velvet program, once for each test process, and gives its path. VELVET_PROGRAM names
// another, to see what an earlier one does.
var Program = sync.OnceValues(func() (string, error) {
	if given := os.Getenv("VELVET_PROGRAM"); given != "" {
		return given, nil
	}
	root, err := moduleRoot()
	if err != nil {
		return "", err
	}
	// One place for each checkout, so that runs do not pile up programs.
	dir := filepath.Join(os.TempDir(), fmt.Sprintf("velvet-test-program-%08x", crc32.ChecksumIEEE([]byte(root))))
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	path, fresh := filepath.Join(dir, "velvet"), filepath.Join(dir, fmt.Sprintf("velvet.%d", os.Getpid()))
	cmd := exec.Command("go", "build", "-o", fresh, "./cmd/velvet")
	cmd.Dir = root
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return path, os.Rename(fresh, path)
})

func moduleRoot() (string, error) {
	dir, err := os.Getwd()
	for err == nil {
		if _, e := os.Stat(filepath.Join(dir, "go.mod")); e == nil {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			err = errors.New("no go.mod above the test")
		}
		dir = filepath.Dir(dir)
	}
	return "", err
}

// programs is where the servers' programs are.
func programs(b *Bed) string {
	tools, err := Programs()
	require.NoError(b, err)
	return tools
}
