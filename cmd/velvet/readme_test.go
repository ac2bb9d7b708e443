package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/testbed"
)

// TestReadme runs the README's section "For real" as printed, as a new user would: on a cluster
// as Debian makes it, with its configuration outside of the data directory, and with the service
// stopped, killed and started again in between. Only places are other ones: directories, the
// cluster's host, and the number of a transaction.
func TestReadme(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("pg_createcluster makes clusters as root alone")
	}
	r := newReadme(t)
	for i, line := range realCommands(t) {
		switch {
		case strings.HasPrefix(line, "velvet serve "):
			r.serve(line)
			continue
		case strings.HasPrefix(line, "velvet cluster add"):
			r.again(syscall.SIGTERM) // an empty catalogue, opened once more
		case strings.HasPrefix(line, "velvet keep set"):
			r.eventually("the first base backup", "velvet reach ferries", "reach from")
			r.again(syscall.SIGKILL)
		case strings.HasPrefix(line, "velvet changes biggest"):
			r.accident()
			r.again(syscall.SIGTERM)
			r.eventually("the journal", "velvet changes biggest ferries --kind delete", "booking")
		}
		out := r.run(line)
		for begins, says := range map[string]string{
			"velvet cluster ready": "PostgreSQL 15", "velvet changes biggest": "900", "velvet moment": "first out",
			"velvet restore start": "ferries-1", "velvet rescue plan": "900 deleted",
			"velvet prove run": "passed         tables", "velvet prove report": "SHA-256",
			"velvet restore takeover": "starting: done", "velvet trail": "take over",
			"velvet keep preview": "as of", "velvet copy show": "psql -h 127.0.0.1",
		} {
			if strings.HasPrefix(line, begins) {
				assert.Contains(t, out, says, "command %d", i)
			}
		}
		if strings.HasPrefix(line, "velvet copy show") {
			r.waysIn(out)
		}
		if strings.HasPrefix(line, "velvet restore takeover") {
			r.meet()
			assert.Equal(t, 1001, testbed.One[int](r.Bed, r.db, "select count(*) from booking"), "the original itself has them back")
		}
	}
	assert.Contains(t, r.run("velvet copy list"), "There is no copy")
	var conf string
	require.NoError(t, r.db.QueryRow(context.Background(), "select current_setting('config_file')").Scan(&conf))
	assert.True(t, strings.HasPrefix(conf, "/etc/postgresql/"), "it is Debian's layout")
	assert.Contains(t, r.run("velvet task list --kind backup"), "done")
}

// realCommands are the commands of the section, in their order.
func realCommands(t *testing.T) (list []string) {
	text, err := os.ReadFile(filepath.Join("..", "..", "README.md"))
	require.NoError(t, err)
	_, section, found := strings.Cut(string(text), "## For real\n")
	require.True(t, found)
	section, _, _ = strings.Cut(section, "\n## ")
	for lines := bufio.NewScanner(strings.NewReader(section)); lines.Scan(); {
		if command, is := strings.CutPrefix(lines.Text(), "       "); is {
			list = append(list, command)
		}
	}
	require.Greater(t, len(list), 15)
	return list
}

// readme is a machine on which the README is followed.
type readme struct {
	*testbed.Bed
	env     []string
	places  *strings.Replacer
	db      *pgx.Conn
	program string // the serve command
	service *exec.Cmd
	xid     string // of a transaction before the accident
}

func newReadme(t *testing.T) *readme {
	r := &readme{Bed: testbed.New(t)}
	for _, d := range []string{"etc", "bin", "work"} {
		require.NoError(t, os.Mkdir(r.Path(d), 0o755))
	}
	port, err := r.Host.FreePort()
	require.NoError(t, err)
	name := fmt.Sprintf("velvet%d", port)
	out, err := exec.Command("pg_createcluster", "15", name, "--port", fmt.Sprint(port), "--start", "--", "--no-sync").CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() {
		out, err := exec.Command("pg_ctlcluster", "15", name, "stop", "-m", "immediate").CombinedOutput()
		assert.NoError(t, err, string(out))
		asides, err := filepath.Glob("/var/lib/postgresql/15/" + name + ".velvet-aside-*")
		assert.NoError(t, err)
		for _, left := range append(asides, "/etc/postgresql/15/"+name, "/var/lib/postgresql/15/"+name,
			"/var/log/postgresql/postgresql-15-"+name+".log") {
			assert.NoError(t, os.RemoveAll(left))
		}
	})
	tools, err := testbed.Programs()
	require.NoError(t, err)
	program, err := testbed.Program()
	require.NoError(t, err)
	require.NoError(t, os.Symlink(program, r.Path("bin", "velvet")))
	listen, err := r.Host.FreePort()
	require.NoError(t, err)
	r.places = strings.NewReplacer("/etc/velvet", r.Path("etc"), "/backups", r.Path("backups"), "host=db1",
		fmt.Sprintf("host=127.0.0.1 port=%d", port))
	r.env = append(os.Environ(), "PATH="+r.Path("bin")+":"+os.Getenv("PATH"), "VELVET_HOME="+r.Path("home"),
		"VELVET_LISTEN=127.0.0.1:"+fmt.Sprint(listen),
		"VELVET_PROGRAMS="+tools, fmt.Sprintf("PGPORT=%d", port))
	require.NoError(t, os.WriteFile(r.Path("work", "secret"), []byte(rolePassword+"\n"), 0o600))
	r.Cleanup(func() {
		if r.service != nil {
			r.end(syscall.SIGTERM)
		}
		if t.Failed() {
			log, _ := os.ReadFile(r.Path("service.log"))
			t.Logf("the service's log:\n%s", log)
		}
	})
	return r
}

var exampleTransaction = regexp.MustCompile(`\b84190\b`)

// run runs a command as printed, in a shell without a terminal. What asks for the role's
// password is given it.
func (r *readme) run(line string) string {
	r.Helper()
	line = exampleTransaction.ReplaceAllString(r.places.Replace(line), r.xid)
	cmd := exec.Command("bash", "-euo", "pipefail", "-c", line)
	cmd.Dir, cmd.Env = r.Path("work"), r.env
	cmd.Stdin = strings.NewReader(rolePassword + "\n" + rolePassword + "\n")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	r.Logf("$ %s\n%s", line, out.String())
	var exit *exec.ExitError
	if strings.HasPrefix(line, "velvet prove") && errors.As(err, &exit) && exit.ExitCode() == 4 {
		// Debian makes clusters without data checksums: then, and only then, pages cannot be proved.
		assert.Contains(r, out.String(), "the cluster has no data checksums")
		assert.NotRegexp(r, `(?m)^(failed|could not run) +(boundary|last|first|tables)`, out.String())
		err = nil
	}
	require.NoError(r, err, "%s\n%s", line, out.String())
	if strings.HasPrefix(line, "su postgres") {
		r.connect()
	}
	return out.String()
}

// connect opens a session as the superuser, once it has a password, and fills the database.
func (r *readme) connect() {
	var port int
	for _, v := range r.env {
		_, _ = fmt.Sscanf(v, "PGPORT=%d", &port)
	}
	out, err := exec.Command("su", "postgres", "-c", fmt.Sprintf(`psql -p %d -c "alter role postgres password 'postgres'"`,
		port)).CombinedOutput()
	require.NoError(r, err, string(out))
	r.meet()
	_, err = r.db.Exec(context.Background(), "create table booking (id int primary key, note text); insert into booking select n, "+
		"'tide' from generate_series(1, 1000) n")
	require.NoError(r, err)
}

// meet opens the session, as after a restart.
func (r *readme) meet() {
	var port int
	for _, v := range r.env {
		_, _ = fmt.Sscanf(v, "PGPORT=%d", &port)
	}
	var err error
	r.db, err = pgx.Connect(context.Background(), fmt.Sprintf("host=127.0.0.1 port=%d user=postgres password=postgres dbname=postgres",
		port))
	require.NoError(r, err)
	r.Cleanup(func() { _ = r.db.Close(context.Background()) })
}

// accident deletes most bookings, after another transaction.
func (r *readme) accident() {
	r.xid = testbed.One[string](r.Bed, r.db, "with i as (insert into booking values (5000, 'late')) select pg_current_xact_id()::text")
	_, err := r.db.Exec(context.Background(), "delete from booking where id <= 900")
	require.NoError(r, err)
}

// serve starts the service and waits until it says that it serves.
func (r *readme) serve(line string) {
	r.Helper()
	r.program = line
	log, err := os.OpenFile(r.Path("service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(r, err)
	defer func() { _ = log.Close() }()
	r.service = exec.Command("bash", "-c", "exec "+r.places.Replace(line))
	r.service.Dir, r.service.Env, r.service.Stderr = r.Path("work"), r.env, log
	out, err := r.service.StdoutPipe()
	require.NoError(r, err)
	require.NoError(r, r.service.Start())
	first, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(r, err, "the service did not start; see its log")
	assert.Contains(r, first, "Velvet Rewind serves at")
}

func (r *readme) end(how syscall.Signal) {
	_ = r.service.Process.Signal(how)
	err := r.service.Wait()
	var exit *exec.ExitError
	if how == syscall.SIGTERM {
		assert.NoError(r, err, "it stops in good order")
	} else {
		assert.True(r, errors.As(err, &exit))
	}
}

// again ends the service and starts it once more.
func (r *readme) again(how syscall.Signal) {
	r.Helper()
	r.end(how)
	r.serve(r.program)
}

// eventually runs a command until it says something.
func (r *readme) eventually(what, line, says string) {
	r.Helper()
	r.Eventually(what, func() bool {
		cmd := exec.Command("bash", "-c", line)
		cmd.Env = r.env
		out, err := cmd.CombinedOutput()
		return err == nil && strings.Contains(string(out), says)
	})
}

// waysIn tries every way in that a copy shows.
func (r *readme) waysIn(shown string) {
	r.Helper()
	tried := 0
	for _, m := range regexp.MustCompile(`way in\s+(psql .*?)   \((.*)\)`).FindAllStringSubmatch(shown, -1) {
		cmd := exec.Command("su", "postgres", "-c", m[1]+` -Atc "select count(*) from booking"`)
		cmd.Env = append(os.Environ(), "PGPASSWORD=postgres")
		cmd.WaitDelay = time.Minute
		out, err := cmd.CombinedOutput()
		require.NoError(r, err, "%s: %s", m[1], out)
		assert.Equal(r, "1000\n", string(out), m[2])
		tried++
	}
	assert.Equal(r, 2, tried)
}
