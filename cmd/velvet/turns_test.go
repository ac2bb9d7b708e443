package main

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/testbed"
)

// TestTwoServicesInTurn has two services with homes of their own capture one cluster, one after
// the other, on one store: what the first left in its spool must not take the place of what the
// second has stored.
func TestTwoServicesInTurn(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--adopt-store")
	shared := []string{"--store", s.Path("home", "store"), "--copies", s.Path("home", "copies")}
	s.protect()
	s.service.Must("backup", "take", "ferries")
	homes := []string{s.Path("home"), s.Path("second-home")}
	require.NoError(t, os.Mkdir(homes[1], 0o711))
	key, err := os.ReadFile(filepath.Join(homes[0], "key")) // opens the cluster's password
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(homes[1], "key"), key, 0o600))
	var committed []string
	n := 1
	for turn := range 6 {
		s.commit(n)
		s.captured() // a cut segment is in the spool
		before := s.storedSegments()
		s.service.Stop()
		s.service.At(homes[(turn+1)%2])
		s.service.With(shared...)
		s.service.Start()
		s.streaming()
		committed = append(committed, s.commit(n+1))
		n += 2
		for range 3 { // the server finishes segments, and forgets them
			s.ferries.Exec("postgres", "select pg_switch_wal()", "update booking set note = note || '.' where id % 500 = 0", "checkpoint")
		}
		s.captured()
		s.Eventually("what is finished is stored",
			func() bool { k := s.cluster().Capture; return k.Stored+pg.LSN(pg.DefaultSegmentSize) > k.Flushed })
		after := s.storedSegments()
		for name, size := range before {
			assert.GreaterOrEqual(t, after[name], size, "%s was replaced by less", name)
		}
		require.Empty(t, s.cluster().Holes, "turn %d", turn)
	}
	k, conn := s.restore("latest")
	assert.Equal(t, 2*len(committed), testbed.One[int](s.Bed, conn, "select count(*) from journal"))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
	for i, xid := range []string{committed[0], committed[3]} {
		k, conn := s.restore("tx " + xid)
		assert.Equal(t, []int{2, 8}[i], testbed.One[int](s.Bed, conn, "select count(*) from journal"))
		require.NoError(t, conn.Close(context.Background()))
		s.discard(k)
	}
	assert.Contains(t, s.service.Must("store", "audit", "--full"), "Everything that is needed is there")
}

// storedSegments lists the WAL segments in the store with their sizes, as they are recorded.
func (s *stage) storedSegments() map[string]int64 {
	found := make(map[string]int64)
	paths, err := filepath.Glob(s.Path("home", "store", "clusters", "*", "wal", "*", strings.Repeat("?", 24)))
	require.NoError(s, err)
	for _, p := range paths {
		info, err := os.Stat(p)
		require.NoError(s, err)
		found[filepath.Base(p)] = info.Size()
	}
	return found
}

// TestWhatIsSafeStaysSafe kills server and service when the slot's place on disk is old: what had been
// made safe is not given up to be sent again. Another service, which lacks it, does not say that
// it is complete.
func TestWhatIsSafeStaysSafe(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--adopt-store")
	s.protect()
	s.service.Must("backup", "take", "ferries")
	s.ferries.Exec("postgres", "checkpoint") // saves the slot, for the last time
	other := s.service.Another("second-home")
	crash := func(kill bool) (safe pg.LSN, complete time.Time) {
		n := testbed.One[int](s.Bed, s.db, "select count(*) from journal")
		for i := range 20 {
			s.commit(n + i)
		}
		s.captured()
		at := testbed.One[time.Time](s.Bed, s.db, "select clock_timestamp()")
		s.Eventually("it is complete", func() bool { c := s.cluster().Capture.CompleteTo; return c != nil && c.After(at) })
		k := s.cluster().Capture
		_ = s.db.Close(context.Background())
		if kill {
			s.service.Kill()
		}
		s.ferries.Kill()
		s.ferries.Start()
		s.db = s.ferries.Connect("postgres")
		return k.Flushed, *k.CompleteTo
	}
	goesOn := func(after int, from string) pg.LSN {
		t.Helper()
		began := regexp.MustCompile(`capture streaming.* from=(\S+)`)
		s.Eventually("capture goes on", func() bool { return len(began.FindAllString(s.said(s.Path("service.log")), -1)) > after })
		all := began.FindAllStringSubmatch(s.said(s.Path("service.log")), -1)
		at, err := pg.ParseLSN(all[after][1])
		require.NoError(t, err, from)
		return at
	}
	starts := func() int { return strings.Count(s.said(s.Path("service.log")), "capture streaming") }

	began := starts()
	safe, _ := crash(false)
	assert.GreaterOrEqual(t, goesOn(began, "the same process"), safe-1000, "all but the beginning of a record is there")
	began = starts()
	safe, _ = crash(true)
	s.service.Start()
	assert.GreaterOrEqual(t, goesOn(began, "another process in the same home"), safe-1000)

	began = starts()
	safe, complete := crash(true)
	s.service = other
	s.service.Start()
	at := goesOn(began, "another home")
	require.Less(t, at, safe, "the slot is old")
	k := s.cluster().Capture
	assert.True(t, k.CompleteTo == nil || k.CompleteTo.Before(complete) || k.Flushed >= safe, "complete to %s with less than at %s",
		k.CompleteTo, complete)
	s.captured()
	require.Empty(t, s.cluster().Holes)
}
