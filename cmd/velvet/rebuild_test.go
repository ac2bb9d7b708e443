package main

import (
	"context"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/engine/store"
	"velvetrewind/testbed"
	"velvetrewind/testbed/storebed"
)

// TestRebuild loses the catalogue and makes it anew from the store.
func TestRebuild(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("cluster", "edit", "ferries", "--alert-rows", "77")
	s.service.Must("keep", "set", "ferries", "--span", "9d")
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	xid := s.in("delete from booking")
	testbed.One[string](s.Bed, s.db, "select pg_switch_wal()::text")
	s.commit(1)
	s.captured()
	s.Eventually("the operation is in the store", func() bool {
		var l api.Located
		s.service.JSON(&l, "segment", "locate", "before tx "+xid, "--cluster", "ferries")
		return l.Where == "store"
	})
	before := s.cluster()
	record, err := storebed.Open(s.Bed, s.service).Get(context.Background(), store.RecordKey(before.ID))
	require.NoError(t, err)
	assert.Contains(t, string(record), "ferries")
	assert.NotContains(t, string(record), rolePassword, "it is there sealed only")
	var bases []api.Backup
	s.service.JSON(&bases, "backup", "list", "ferries")
	s.service.Stop()

	empty := s.Postgres("other-catalogue", false)
	s.service.UseCatalogue(empty)
	s.service.With("--adopt-store")
	s.service.Start()
	assert.Contains(t, s.service.Must("cluster", "list"), "No cluster is protected yet")
	out := s.service.Must("store", "rebuild")
	assert.Contains(t, out, "ferries")
	s.streaming()
	after := s.cluster()
	assert.Equal(t, before.ID, after.ID)
	assert.Equal(t, before.SystemID, after.SystemID)
	assert.Contains(t, s.service.Must("cluster", "edit", "ferries"), "77 or more")
	var again []api.Backup
	s.service.JSON(&again, "backup", "list", "ferries")
	require.Len(t, again, 1)
	again[0].Task = bases[0].Task // the log of a task is in the catalogue alone
	assert.Equal(t, bases, again)
	require.NotEmpty(t, after.Reach)
	assert.Equal(t, before.Reach[0].From, after.Reach[0].From)
	assert.Empty(t, after.Holes)

	s.commit(2)
	s.captured()
	assert.Equal(t, "0 0 20000 ", tell(s.change(xid), "booking"), "its journal was in the store too")
	for moment, want := range map[string]string{"before delete of booking": "20000 ", "latest": "0 1,2"} {
		k, conn := s.restore(moment)
		assert.Equal(t, want, testbed.One[string](s.Bed, conn,
			"select (select count(*) from booking) || ' ' || coalesce(string_agg(n::text, ',' order by n), '') from journal"), moment)
		s.discard(k)
	}
	assert.Contains(t, s.service.Must("store", "audit", "--full"), "Everything that is needed is there")
	assert.Contains(t, s.service.Must("store", "rebuild"), "known", "what is known is left alone")

	s.commit(3)
	middle := testbed.One[string](s.Bed, s.db, "select pg_walfile_name(pg_switch_wal())")
	s.commit(4)
	behind, err := pg.ParseLSN(testbed.One[string](s.Bed, s.db, "select pg_switch_wal()::text"))
	require.NoError(t, err)
	s.captured()
	lost := s.Path("home", "store", "clusters", before.ID, "wal", middle[:8], middle)
	s.Eventually("it is in the store", func() bool {
		_, err := os.Stat(lost)
		return err == nil && s.cluster().Capture.Stored >= behind
	})
	s.service.Stop()
	require.NoError(t, os.Remove(lost))
	catalogue := s.Postgres("catalogue-with-a-gap", false)
	s.service.UseCatalogue(catalogue)
	s.service.Start()
	assert.Contains(t, s.service.Must("store", "rebuild"), "1 base backup")
	assert.Contains(t, s.service.Must("reach", "ferries"), "it was not in the store when the catalogue was recorded again")
	assert.Contains(t, s.service.Must("keep", "show", "ferries"), "any moment of the last 9 days")

	s.rebuildKilled(bases, catalogue)

	require.NoError(t, os.Remove(s.Path("home", "store", "clusters", before.ID, "record")))
	s.service.Stop()
	s.service.UseCatalogue(s.Postgres("third-catalogue", false))
	s.service.Start()
	out = s.service.Must("store", "rebuild")
	assert.Contains(t, out, "unclear")
	assert.Contains(t, out, before.ID)
	assert.Contains(t, s.service.Must("cluster", "list"), "No cluster is protected yet")
}

// rebuildKilled kills the service while it makes its catalogue anew: a cluster is there
// with all that the store holds of it, or not at all.
func (s *stage) rebuildKilled(bases []api.Backup, catalogue *testbed.Postgres) {
	random := rand.New(rand.NewPCG(2, 2))
	for range 5 {
		s.service.Stop()
		catalogue.Exec("template1", "drop database postgres with (force)", "create database postgres")
		s.service.Start()
		status, text := s.call("POST", "/store/rebuilds", nil)
		require.Equal(s, 202, status, text)
		var begun api.Task
		for s.decode(text, &begun); begun.State == "waiting"; s.decode(text, &begun) {
			_, text = s.call("GET", "/tasks/"+begun.ID, nil)
		}
		time.Sleep(time.Duration(random.IntN(60)) * time.Millisecond) // not to wait for anything: to be killed anywhere
		s.service.Kill()
		s.service.Start()
		s.Eventually("the rebuild is put right", func() bool { return len(s.active()) == 0 })
		if out := s.service.Must("cluster", "list"); strings.Contains(out, "No cluster is protected yet") {
			assert.Contains(s, s.service.Must("store", "rebuild"), "1 base backup")
		}
		var again []api.Backup
		s.service.JSON(&again, "backup", "list", "ferries")
		require.Len(s, again, 1)
		again[0].Task = bases[0].Task
		assert.Equal(s, bases, again)
		assert.Contains(s, s.service.Must("reach", "ferries"), "it was not in the store when the catalogue was recorded again")
		assert.Contains(s, s.service.Must("keep", "show", "ferries"), "any moment of the last 9 days")
	}
}
