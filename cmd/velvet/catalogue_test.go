package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// TestOwnCatalogue runs a service that was given no database: its own server is made, ends and
// begins with it, and is found again whatever was killed.
func TestOwnCatalogue(t *testing.T) {
	t.Parallel()
	b := testbed.New(t)
	s := b.IdleService()
	server := s.OwnCatalogue()
	s.Start()
	s.Must("policy", "set", "outer", "--label", "fleet=outer", "--span", "5d")
	known := func(when string) { assert.Contains(t, s.Must("policy", "list"), "outer", when) }
	pid := func() int {
		n, err := b.Host.PID(server)
		require.NoError(t, err)
		return n
	}
	for path, mode := range map[string]os.FileMode{"data": 0o700, "socket": 0o700, "log": 0o700, "password": 0o600} {
		info, err := os.Stat(b.Path("home", "catalogue", path))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), path)
	}

	ways := map[string]bool{"postgres": true, "daemon": false} // who gets in as the superuser
	if os.Geteuid() != 0 {
		clear(ways) // only root can try
	}
	for who, gets := range ways {
		at, err := b.Host.Listening(server)
		require.NoError(t, err)
		out, err := exec.Command("setpriv", "--reuid="+who, "--regid="+who, "--clear-groups", "psql", "-h", at.Socket, "-p",
			fmt.Sprint(at.Port), "-U", "catalogue_admin", "-Atc", "select 1", "velvet").CombinedOutput()
		assert.Equal(t, gets, err == nil, "%s: %s", who, out)
	}
	s.Stop()
	assert.False(t, b.Host.Running(server), "it ends with the service")
	s.Start()
	known("started again")
	before := pid()
	s.Kill()
	assert.True(t, b.Host.Running(server), "nobody ended it")
	s.Start()
	assert.Equal(t, before, pid(), "it is picked up as it was")
	known("after the service was killed")
	require.NoError(t, syscall.Kill(before, syscall.SIGKILL))
	b.Eventually("it is started again", func() bool { // its children answer for a while yet
		n, err := b.Host.PID(server)
		return err == nil && n != before && s.Velvet("policy", "list").Code == 0
	})
	known("after the server was killed")

	second := exec.Command(s.Program(), "serve", "--listen", "127.0.0.1:0")
	second.Env = append(os.Environ(), "VELVET_HOME="+b.Path("home"))
	out, err := second.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "serves with "+b.Path("home")+" already", "two services on one home")
	known("after a second service was refused")

	password, err := os.ReadFile(b.Path("home", "catalogue", "password"))
	require.NoError(t, err)
	logs, err := filepath.Glob(b.Path("home", "catalogue", "log", "*"))
	require.NoError(t, err)
	assert.NotEmpty(t, logs)
	for _, path := range append(logs, b.Path("service.log"), b.Path("home", "catalogue", "start.log")) {
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.NotContains(t, string(content), strings.TrimSpace(string(password)), path)
	}

	s.Stop()
	version := filepath.Join(server.DataDir, "PG_VERSION")
	was, err := os.ReadFile(version)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(version, []byte("13\n"), 0o600))
	refused := exec.Command(s.Program(), "serve", "--listen", "127.0.0.1:0")
	refused.Env = second.Env
	out, err = refused.CombinedOutput()
	assert.Error(t, err)
	for _, says := range []string{"is of PostgreSQL 13", "postgresql-13", "--adopt-store", "velvet store rebuild"} {
		assert.Contains(t, string(out), says, "a package upgrade has taken its programs away")
	}
	require.NoError(t, os.WriteFile(version, was, 0o600))
	s.Start()
	known("with its programs back")
}

// TestOwnCatalogueOnAFullDisk leaves nothing half made.
func TestOwnCatalogueOnAFullDisk(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root can mount a small file system")
	}
	b := testbed.New(t)
	s := b.IdleService()
	require.NoError(t, os.Mkdir(b.Path("home"), 0o711))
	require.NoError(t, syscall.Mount("tmpfs", b.Path("home"), "tmpfs", 0, "size=24m,mode=0711"))
	t.Cleanup(func() { _ = syscall.Unmount(b.Path("home"), syscall.MNT_DETACH) })
	cmd := exec.Command(s.Program(), "serve", "--listen", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "VELVET_HOME="+b.Path("home"))
	out, err := cmd.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "is on a full disk")
	assert.Contains(t, string(out), "Free or add space there")
	for _, left := range []string{"data", "data.new"} {
		assert.NoDirExists(t, b.Path("home", "catalogue", left))
	}
	require.NoError(t, syscall.Mount("", b.Path("home"), "", syscall.MS_REMOUNT, "size=400m"))
	s.Start()
	assert.Contains(t, s.Must("cluster", "list"), "No cluster is protected yet")
	s.Stop()
}

// TestTheCatalogueGoesAway ends the catalogue's server under a service, and has it back: what was
// committed meanwhile is captured. A service that is started meanwhile says what is wrong.
func TestTheCatalogueGoesAway(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries")
	s.commit(1)
	s.captured()
	s.service.Records.Stop(host.Immediate)
	for n := 2; n < 6; n++ {
		s.commit(n)
		testbed.One[string](s.Bed, s.db, "select pg_switch_wal()::text")
	}
	r := s.service.Velvet("cluster", "list")
	assert.NotZero(t, r.Code)
	s.refusesToStart("the catalogue cannot be reached", "--store-key", s.service.StoreKey)
	s.service.Records.Start()
	s.Eventually("capture goes on", func() bool { return s.service.Velvet("cluster", "list").Code == 0 })
	last := s.commit(6)
	s.captured()
	assert.Empty(t, s.cluster().Holes)
	k, conn := s.restore("tx " + last)
	assert.Equal(t, "1,2,3,4,5,6", testbed.One[string](s.Bed, conn, numbersOf))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
}

// TestSegmentSizes does the job on clusters whose segments have other sizes than usual.
func TestSegmentSizes(t *testing.T) {
	t.Parallel()
	for name, size := range map[string]int{"small": 1, "large": 64} {
		t.Run(name, func(t *testing.T) {
			b := testbed.New(t)
			p := b.PostgresMade("original", host.InitOptions{Superuser: testbed.Superuser, Password: testbed.Password, Checksums: true,
				SegmentSize: size}, "min_wal_size = '128MB'")
			p.Exec("postgres", "create table booking (id int primary key, note text)",
				"insert into booking select n, repeat('tide ', 20) from generate_series(1, 20000) n")
			s := b.Service()
			r := s.VelvetWith(testbed.Password, "cluster", "add", "ferries", "--connect", p.DSN(testbed.Superuser, "postgres"),
				"--password-file", "-", "--no-base")
			require.Zero(t, r.Code, r.Err)
			st := &stage{Bed: b, ferries: p, service: s, db: p.Connect("postgres")}
			st.streaming()
			s.Must("backup", "take", "ferries")
			p.Exec("postgres", "update booking set note = note || '!'")
			s.Must("backup", "take", "ferries", "--checkpoint", "fast", "--kind", "incremental")
			xid := st.in("delete from booking where id > 7")
			p.Exec("postgres", "select pg_switch_wal()", "insert into booking values (100000, 'later')")
			st.captured()
			for moment, want := range map[string]int{"before tx " + xid: 20000, "latest": 8} {
				k, conn := st.restore(moment)
				assert.Equal(t, want, testbed.One[int](b, conn, "select count(*) from booking"), moment)
				assert.Equal(t, pg.SegmentSize(size)<<20,
					pg.SegmentSize(testbed.One[int64](b, conn, "select setting::bigint from pg_settings where name = 'wal_segment_size'")))
				require.NoError(t, conn.Close(context.Background()))
				st.discard(k)
			}
		})
	}
}
