package main

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

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
		s.Eventually("what is finished is stored", func() bool { k := s.cluster().Capture; return k.Stored+pg.LSN(pg.DefaultSegmentSize) > k.Flushed })
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
