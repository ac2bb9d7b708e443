package main

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// take takes a base backup, and gives it with the log of its task.
func (s *stage) take(args ...string) (b api.Backup, log string) {
	s.service.JSON(&b, append([]string{"backup", "take", "ferries", "--checkpoint", "fast"}, args...)...)
	return b, s.service.Must("task", "show", b.Task)
}

// offline changes the ferries' files while their server is down.
func (s *stage) offline(change func(data string)) {
	require.NoError(s, s.db.Close(context.Background()))
	s.ferries.Stop(host.Fast)
	change(s.ferries.DataDir)
	s.ferries.Start()
	s.db = s.ferries.Connect("postgres")
	s.streaming()
}

// setControl changes a field of the control file (offset 252 says whether pages have checksums).
func setControl(t *testing.T, data string, at int, value uint32) {
	path := filepath.Join(data, "global", "pg_control")
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	const crcAt = 288 // of PostgreSQL 15
	binary.LittleEndian.PutUint32(content[at:], value)
	binary.LittleEndian.PutUint32(content[crcAt:], crc32.Checksum(content[:crcAt], pg.Castagnoli))
	_, err = pg.ParseControl(content)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, content, 0))
}

// TestFactsAreReadAnew switches data checksums on, without WAL, as may be done while a server is
// down, renames the superuser and moves the data directory: each is noticed by the next base
// backup, and what is restored is right.
func TestFactsAreReadAnew(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.offlineBefore(func(data string) { setControl(t, data, 252, 0) })
	s.protect()
	s.take()
	first := s.commit(1)
	s.captured()
	s.offline(func(data string) {
		require.NoError(t, filepath.WalkDir(data, func(path string, d fs.DirEntry, err error) error {
			require.NoError(t, err)
			rel, err := filepath.Rel(data, path)
			require.NoError(t, err)
			file, ok := pg.ParseRelationFile(filepath.ToSlash(rel))
			if !ok || d.IsDir() {
				return nil
			}
			content, err := os.ReadFile(path)
			require.NoError(t, err)
			for at := 0; at+pg.BlockSize <= len(content); at += pg.BlockSize {
				page := content[at : at+pg.BlockSize]
				if !bytes.Equal(page, make([]byte, pg.BlockSize)) {
					binary.LittleEndian.PutUint16(page[8:], pg.PageChecksum(page, file.FirstBlock()+uint32(at/pg.BlockSize)))
				}
			}
			return os.WriteFile(path, content, 0)
		}))
		setControl(t, data, 252, 1)
	})
	b, log := s.take("--kind", "incremental")
	assert.Equal(t, "full", b.Kind)
	assert.Contains(t, log, "data checksums were switched")
	assert.Zero(t, b.PageFaults, "%v", b.Damaged)
	second := s.commit(2)
	s.captured()
	b, _ = s.take("--kind", "incremental")
	assert.Equal(t, "incremental", b.Kind, "and the next one can be compared again")

	s.ferries.Exec("postgres", "create role boss superuser login password '"+testbed.Password+"'")
	_, err := s.ferries.Program("psql", "-X", "-q", "-v", "ON_ERROR_STOP=1", "-U", "boss", "-d", "postgres", "-c",
		"alter role "+testbed.Superuser+" rename to harbourmistress", "-c",
		"create role "+testbed.Superuser+" superuser login password '"+testbed.Password+"'").CombinedOutput()
	require.NoError(t, err)
	b, log = s.take("--kind", "incremental")
	assert.Contains(t, log, "the superuser is called harbourmistress now")
	last := s.commit(3)
	s.captured()
	for moment, rows := range map[string]string{"tx " + first: "1", "tx " + second: "1,2", "tx " + last: "1,2,3"} {
		var k api.Copy
		s.service.JSON(&k, "restore", "start", "ferries", moment)
		conn := s.connect(k.Port, "postgres")
		assert.Equal(t, rows, testbed.One[string](s.Bed, conn, numbersOf))
		assert.Equal(t, 20000, testbed.One[int](s.Bed, conn, "select count(*) from booking where length(note) >= 0"),
			"every page can be read")
		require.NoError(t, conn.Close(context.Background()))
		assert.Regexp(t, "verdict: (passed|could not run)", s.service.Velvet("prove", "run", k.ID).Out)
		s.discard(k)
	}

	moved := s.ferries.DataDir + "-moved"
	s.offline(func(data string) { require.NoError(t, os.Rename(data, moved)); s.ferries.DataDir = moved })
	b, log = s.take("--kind", "incremental")
	assert.Equal(t, "full", b.Kind)
	assert.Contains(t, log, "the data directory is "+moved+" now")
}

// offlineBefore changes the ferries' files before anything protects them.
func (s *stage) offlineBefore(change func(data string)) {
	require.NoError(s, s.db.Close(context.Background()))
	s.ferries.Stop(host.Fast)
	change(s.ferries.DataDir)
	s.ferries.Start()
	s.db = s.ferries.Connect("postgres")
}

// TestDamagedPagesStayKnown damages pages of a table that nobody writes to, one of them with an LSN
// of the future: every base backup names them, until they are seen whole.
func TestDamagedPagesStayKnown(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "create table ballast as select n, repeat('b', 700) as note from generate_series(1, 2000) n", "checkpoint")
	path := testbed.One[string](s.Bed, s.db, "select pg_relation_filepath('ballast')")
	var whole []byte
	s.offlineBefore(func(data string) {
		var err error
		whole, err = os.ReadFile(filepath.Join(data, path))
		require.NoError(t, err)
		spoiled := bytes.Clone(whole)
		copy(spoiled[20*pg.BlockSize+4000:], "not what was written")
		for i := range pg.BlockSize {
			spoiled[50*pg.BlockSize+i] = byte(255 - i%7) // its LSN is far in the future
		}
		require.NoError(t, os.WriteFile(filepath.Join(data, path), spoiled, 0))
	})
	s.protect()
	known := func(b api.Backup, log string) {
		t.Helper()
		require.Len(t, b.Damaged, 2, log)
		assert.EqualValues(t, 2, b.PageFaults)
		for i, block := range []uint32{20, 50} {
			assert.Equal(t, block, b.Damaged[i].Block)
			assert.Equal(t, path, b.Damaged[i].Path)
			assert.Equal(t, "ballast in postgres", b.Damaged[i].Table)
		}
		shown := s.service.Must("backup", "show", b.ID)
		assert.Contains(t, shown, "damaged: ballast in postgres, block 20 of "+path)
		assert.Contains(t, s.service.Must("cluster", "list"), "2 damaged pages")
	}
	known(s.take())
	s.commit(1)
	for range 2 {
		b, log := s.take("--kind", "incremental")
		require.Equal(t, "incremental", b.Kind)
		known(b, log)
	}
	s.offline(func(data string) { require.NoError(t, os.WriteFile(filepath.Join(data, path), whole, 0)) })
	b, log := s.take("--kind", "incremental")
	assert.Equal(t, "incremental", b.Kind)
	assert.Empty(t, b.Damaged, log)
	assert.NotContains(t, s.service.Must("cluster", "list"), "damaged page")
}

// clockSource moves the clock of a program by so many seconds (CLOCK_AHEAD).
const clockSource = `
#define _GNU_SOURCE
#include <stdlib.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <time.h>
#include <unistd.h>
static long ahead(void) { const char *s = getenv("CLOCK_AHEAD"); return s ? atol(s) : 0; }
int clock_gettime(clockid_t id, struct timespec *t) {
	int r = syscall(SYS_clock_gettime, id, t);
	if (r == 0 && id == CLOCK_REALTIME) t->tv_sec += ahead();
	return r;
}
int gettimeofday(struct timeval *t, void *zone) {
	struct timespec now;
	int r = clock_gettime(CLOCK_REALTIME, &now);
	if (r == 0) { t->tv_sec = now.tv_sec; t->tv_usec = now.tv_nsec / 1000; }
	return r;
}
time_t time(time_t *t) {
	struct timespec now;
	clock_gettime(CLOCK_REALTIME, &now);
	if (t) *t = now.tv_sec;
	return now.tv_sec;
}
`

// startAhead starts the ferries' server with a clock that is ahead of everybody else's.
func (s *stage) startAhead(by time.Duration) {
	source, library := s.Path("clock.c"), s.Path("clock.so")
	require.NoError(s, os.WriteFile(source, []byte(clockSource), 0o644))
	out, err := exec.Command("cc", "-shared", "-fPIC", "-o", library, source).CombinedOutput()
	require.NoError(s, err, string(out))
	require.NoError(s, os.Chmod(library, 0o755))
	out, err = exec.Command("setpriv", "--reuid=postgres", "--regid=postgres", "--init-groups", "env", "LD_PRELOAD="+library,
		fmt.Sprintf("CLOCK_AHEAD=%d", int(by.Seconds())),
		fmt.Sprintf(host.DefaultTools, 15)+"/pg_ctl", "start", "--no-wait", "-D", s.ferries.DataDir, "-l", s.ferries.Log, "-o",
		fmt.Sprintf("-p %d -k %s", s.ferries.Port, s.ferries.Socket)).CombinedOutput()
	require.NoError(s, err, string(out))
	require.NoError(s, s.Host.WaitReady(context.Background(), s.ferries.Server))
}

// TestOneClock protects a server whose clock is five minutes ahead of the service's: times mean the
// server's, the distance is told, and nothing is deleted meanwhile.
func TestOneClock(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	require.NoError(t, s.db.Close(context.Background()))
	s.ferries.Stop(host.Fast)
	s.startAhead(5 * time.Minute)
	s.db = s.ferries.Connect("postgres")
	now := func() time.Time { return testbed.One[time.Time](s.Bed, s.db, "select clock_timestamp()") }
	require.InDelta(t, 300, time.Until(now()).Seconds(), 20)
	s.protect()
	s.take()
	s.commit(1)
	time.Sleep(4 * time.Second) // commits are told apart by their time
	good := now()
	time.Sleep(4 * time.Second)
	s.commit(666) // to be undone
	s.captured()
	b, _ := s.take()
	assert.True(t, b.StoppedAt.After(good), "the backup ended by the server's clock")
	s.commit(2)
	s.captured()
	time.Sleep(3 * time.Second)
	var k api.Copy
	s.service.JSON(&k, "restore", "start", "ferries", good.UTC().Format("2006-01-02T15:04:05.000Z"))
	conn := s.connect(k.Port, "postgres")
	assert.Equal(t, "1", testbed.One[string](s.Bed, conn, numbersOf), "the second backup holds what should be undone")
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
	assert.Contains(t, s.service.Must("cluster", "list"), "this service's are 5m0")
	assert.Contains(t, s.service.Must("capture", "status", "ferries"), "300.0 s ahead of the service's")
	s.service.Must("keep", "set", "ferries", "--span", "1d")
	r := s.service.Velvet("keep", "apply", "ferries", "--confirm", "ferries")
	assert.NotZero(t, r.Code)
	assert.Contains(t, r.Err+r.Out, "nothing was deleted")
	assert.InDelta(t, 300, s.metric("velvet_clock_ahead_seconds"), 1)
}
