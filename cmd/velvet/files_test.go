package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// TestFilesAreStartedByHand writes a moment as ordinary files, and starts a server on them with nothing of ours: in a directory, and
// in Debian's layout from a stream.
func TestFilesAreStartedByHand(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "alter system set work_mem = '7MB'", "select pg_reload_conf()")
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.commit(1)
	last := s.commit(2)
	s.commit(3)
	s.captured()
	owner := s.Host.User()
	require.NoError(t, s.Host.MakeDir(s.Path("else where"), 0o755))
	dir, ledger := s.Path("else where", "ferries"), s.Path("ferries", "ledger")
	port, err := s.Host.FreePort()
	require.NoError(t, err)

	for says, args := range map[string][]string{
		"cannot be":               {"--at", "/srv/$(reboot)"},
		"no tablespace of base":   {"--tablespace", "/nowhere=/srv/ledger"},
		"say OLD=NEW":             {"--tablespace", "/srv/ledger"},
		"cannot be the name of a": {"--debian", "../ferries"},
	} {
		s.refused(1, []string{says}, append([]string{"restore", "files", "ferries", "latest", dir}, args...)...)
		assert.NoFileExists(t, dir)
	}
	s.refused(1, []string{"say with --at"}, "restore", "files", "ferries", "latest", "-")

	moved := s.Path("else where", "moved-ledger")
	said := s.service.Must("restore", "files", "ferries", "tx "+last, dir, "--port", fmt.Sprint(port), "--owner", owner,
		"--tablespace", ledger+"="+moved)
	assert.Contains(t, said, "HOW-TO.txt")
	s.refused(1, []string{"is there already"}, "restore", "files", "ferries", "latest", dir)
	howTo, err := os.ReadFile(filepath.Join(dir, "HOW-TO.txt"))
	require.NoError(t, err)
	sh := func(in string, command ...string) string {
		c := exec.Command(command[0], command[1:]...)
		c.Dir = in
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	sh(dir, "b2sum", "--quiet", "-c", "B2SUMS")
	check, moving := line(string(howTo), "b2sum"), line(string(howTo), "mv ")
	sh("/", "sh", "-c", check)
	sh("/", "sh", "-c", moving)
	assert.DirExists(t, moved)
	s.startsOn(host.Server{Major: s.Major, DataDir: filepath.Join(dir, "data"), Port: port, Socket: s.ferries.Socket,
		Log: filepath.Join(dir, "server.log")})
	if os.Geteuid() == 0 && s.Major == 15 {
		s.startsOnDebian(last)
	}
}

// line is what a how-to has after two spaces, in the line with a word.
func line(howTo, word string) string {
	for l := range strings.Lines(howTo) {
		if _, command, ok := strings.Cut(strings.TrimSpace(l), "  "); ok && strings.Contains(l, word) {
			return strings.TrimSpace(command)
		}
	}
	return ""
}

// startsOn starts a server on files as they are, looks, opens it for writing, and ends it.
func (s *stage) startsOn(server host.Server) {
	ctx := context.Background()
	require.NoError(s, s.Host.Start(ctx, server))
	defer func() { assert.NoError(s, s.Host.Stop(ctx, server, host.Immediate)) }()
	s.Cleanup(func() {
		if log, _ := os.ReadFile(server.Log); s.Failed() {
			s.Logf("the server's log:\n%s", log)
		}
	})
	s.looksRight(server.Port)
}

// looksRight looks whether a server stands at the moment, and opens it for writing.
func (s *stage) looksRight(port int) {
	ctx := context.Background()
	var conn *pgx.Conn
	s.Eventually("it takes connections", func() (is bool) {
		var err error
		conn, err = pgx.Connect(ctx, fmt.Sprintf("host=127.0.0.1 port=%d user=%s password='%s' dbname=postgres", port, testbed.Superuser,
			testbed.Password))
		return err == nil
	})
	defer func() { _ = conn.Close(ctx) }()
	s.Eventually("it has replayed all", func() bool {
		return testbed.One[string](s.Bed, conn, "select pg_get_wal_replay_pause_state()") == "paused"
	})
	look := func() {
		assert.Equal(s, "1,2", testbed.One[string](s.Bed, conn, numbersOf))
		assert.Equal(s, 1000, testbed.One[int](s.Bed, conn, "select count(*) from payment"), "what lies in a tablespace")
	}
	look()
	assert.Equal(s, "7MB", testbed.One[string](s.Bed, conn, "show work_mem"), "its own configuration")
	assert.Equal(s, "off", testbed.One[string](s.Bed, conn, "show archive_mode"))
	_, err := conn.Exec(ctx, "select pg_wal_replay_resume()")
	require.NoError(s, err)
	s.Eventually("it is open for writing", func() bool { return !testbed.One[bool](s.Bed, conn, "select pg_is_in_recovery()") })
	look()
	_, err = conn.Exec(ctx, "insert into journal values (4)")
	require.NoError(s, err)
}

// startsOnDebian unpacks a stream at the root of the file system, where Debian's own programs find it.
func (s *stage) startsOnDebian(moment string) {
	port, err := s.Host.FreePort()
	require.NoError(s, err)
	name := fmt.Sprintf("velvet%d", port)
	data, config := "/var/lib/postgresql/15/"+name, "/etc/postgresql/15/"+name
	s.Cleanup(func() {
		for _, left := range []string{data, data + ".restored", config, "/var/log/postgresql/postgresql-15-" + name + ".log"} {
			assert.NoError(s, os.RemoveAll(left))
		}
	})
	stream := s.service.Must("restore", "files", "ferries", "tx "+moment, "-", "--debian", name, "--port", fmt.Sprint(port), "--owner",
		"postgres")
	tar := exec.Command("tar", "-C", "/", "-x")
	tar.Stdin = strings.NewReader(stream)
	out, err := tar.CombinedOutput()
	require.NoError(s, err, string(out))
	howTo, err := os.ReadFile(data + ".restored/HOW-TO.txt")
	require.NoError(s, err)
	out, err = exec.Command("sh", "-c", line(string(howTo), "b2sum")).CombinedOutput()
	require.NoError(s, err, string(out))
	out, err = exec.Command("sh", "-c", line(string(howTo), "pg_ctlcluster")).CombinedOutput()
	require.NoError(s, err, string(out))
	defer func() {
		out, err := exec.Command("pg_ctlcluster", "15", name, "stop", "-m", "immediate").CombinedOutput()
		assert.NoError(s, err, string(out))
	}()
	s.looksRight(port)
}

// TestFilesThatBreakOff has the store lose what the files need: nothing is left that could be taken for all of them.
func TestFilesThatBreakOff(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.commit(1)
	s.captured()
	var backups []api.Backup
	s.service.JSON(&backups, "backup", "list", "ferries")
	packs, err := filepath.Glob(s.Path("home", "store", "clusters", "*", "packs", backups[0].ID+"-*"))
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	pack, err := os.ReadFile(packs[0])
	require.NoError(t, err)
	pack[len(pack)/2] ^= 1
	require.NoError(t, os.WriteFile(packs[0], pack, 0o600))
	dir := s.Path("files")
	s.refused(1, []string{"the stream broke off"}, "restore", "files", "ferries", "latest", dir)
	left, err := filepath.Glob(dir + "*")
	require.NoError(t, err)
	assert.Empty(t, left)
}
