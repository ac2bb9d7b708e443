package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// TestExtract writes the WAL of a span as files, with which a standby that lacks it catches up; again, beside others' bytes, and with a
// hole.
func TestExtract(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	first := testbed.One[string](s.Bed, s.db, "select pg_current_wal_insert_lsn()::text")
	require.NoError(t, s.Host.MakeDir(s.Path("own"), 0o700))
	k, conn := s.restore("latest")
	require.NoError(t, conn.Close(context.Background()))
	for n := range 3 {
		s.commit(n)
		s.exec(fmt.Sprintf("insert into booking select n, repeat('tide', 20) from generate_series(%d, %d) n", 30_000+n*10_000,
			39_000+n*10_000))
		s.exec("select pg_switch_wal()")
	}
	last := s.commit(9)
	s.captured()
	s.Eventually("they are stored", func() bool { _, complete := s.indexes(); return complete })
	dir := s.Path("wal")
	out := s.service.Must("segment", "extract", "--cluster", "ferries", "lsn "+first, "tx "+last, dir)
	assert.Contains(t, out, "0 were there already")
	assert.Contains(t, out, `restore_command = 'cp "`+dir+`/%f" "%p"'`)
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 4)
	for _, f := range files {
		if filepath.Ext(f) == ".partial" {
			continue
		}
		was, err := os.ReadFile(filepath.Join(s.ferries.DataDir, "pg_wal", filepath.Base(f)))
		require.NoError(t, err)
		is, err := os.ReadFile(f)
		require.NoError(t, err)
		require.Equal(t, was, is, "%s is what the server has", f)
	}
	again := s.service.Must("segment", "extract", "--cluster", "ferries", "lsn "+first, "tx "+last, dir)
	assert.Regexp(t, `^[01] files? written .*, [3-9] were there already`, again, "at most the one that is not finished has grown")

	// A server whose directory is as the copy's, and that knows only of these files.
	server := host.Server{Major: s.Major, DataDir: filepath.Join(k.Directory, "data"), Port: k.Port, Socket: s.Path("own"),
		Log: s.Path("own", "log")}
	require.NoError(t, s.Host.Stop(context.Background(), server, host.Fast))
	conf := filepath.Join(server.DataDir, "postgresql.auto.conf")
	require.NoError(t, os.WriteFile(conf, []byte("restore_command = 'cp \""+dir+"/%f\" \"%p\"'\nrecovery_target_lsn = ''\n"+
		"recovery_target_timeline = 'latest'\n"), 0o600))
	require.NoError(t, os.Rename(filepath.Join(server.DataDir, "recovery.signal"), filepath.Join(server.DataDir, "standby.signal")))
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, s.Host.Start(context.Background(), server))
	t.Cleanup(func() { _ = s.Host.Stop(context.Background(), server, host.Immediate) })
	s.Eventually("the standby has the last finished segment's rows", func() bool {
		standby, err := pgx.Connect(context.Background(), fmt.Sprintf("host=127.0.0.1 port=%d user=%s password='%s' dbname=postgres",
			k.Port, testbed.Superuser, testbed.Password))
		if err != nil {
			return false // it does not answer yet
		}
		defer func() { _ = standby.Close(context.Background()) }()
		return testbed.One[int](s.Bed, standby, "select count(*) from journal where n < 3") == 3
	})

	require.NoError(t, os.WriteFile(files[0], []byte("something else"), 0o600))
	s.refused(1, []string{files[0] + " is there with other bytes"}, "segment", "extract", "--cluster", "ferries", "lsn "+first, "tx "+last,
		dir)
	s.refused(1, []string{"Name the earlier moment first"}, "segment", "extract", "--cluster", "ferries", "tx "+last, "lsn "+first, dir)
	empty := s.Path("empty")
	s.refused(1, []string{"nothing was written: 1 of", "are not here"}, "segment", "extract", "--cluster", "ferries", "lsn 0/10",
		"tx "+last, empty)
	assert.NoDirExists(t, empty)
	s.service.Must("segment", "extract", "--cluster", "ferries", "lsn 0/10", "tx "+last, empty, "--leave-holes")
	assert.DirExists(t, empty)
	require.NoError(t, s.Host.Stop(context.Background(), server, host.Immediate))
	s.discardAll()
}
