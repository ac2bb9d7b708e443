package main

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// TestFollowingAFailover registers a cluster by the addresses of both of its servers, and has
// the standby take over: once with all the WAL, once with a part of it gone.
func TestFollowingAFailover(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	require.NoError(t, s.db.Close(context.Background()))
	s.ferries.Configure("wal_keep_size = '512MB'")
	s.ferries.Stop(host.Fast)
	second := s.Standby(s.ferries, "second")
	s.ferries.Start()
	second.Start()
	s.db = s.ferries.Connect("postgres")

	both := fmt.Sprintf("host=127.0.0.1,127.0.0.1 port=%d,%d user=velvet dbname=postgres sslmode=disable", second.Port, s.ferries.Port)
	r := s.service.VelvetWith(rolePassword+"\n", "cluster", "add", "ferries", "--connect", both+" target_session_attrs=read-write",
		"--password-file", "-", "--no-base")
	require.Zero(t, r.Code, r.Err)
	s.streaming()
	r = s.service.VelvetWith(rolePassword+"\n", "cluster", "ready", "--connect", both, "--password-file", "-")
	require.Zero(t, r.Code, r.Err)
	assert.Contains(t, r.Out, "was admitted", "of several hosts the primary is taken, asked for or not")
	alone := strings.Replace(second.DSN("velvet", "postgres"), "sslmode", "target_session_attrs=primary sslmode", 1)
	r = s.service.VelvetWith(rolePassword+"\n", "cluster", "ready", "--connect", alone, "--password-file", "-")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, "no primary was found among the hosts")

	s.service.Must("backup", "take", "ferries")
	before := s.commit(1)
	s.captured()
	s.failOver(second)
	after := s.commit(2)
	s.Eventually("capture follows to the new primary", func() bool {
		k := s.cluster().Capture
		return k.Timeline == 2 &&
			k.State == "streaming"
	})
	s.captured()
	assert.Empty(t, s.cluster().Holes)
	assert.Equal(t, 1, testbed.One[int](s.Bed, s.db, "select count(*) from pg_replication_slots where active"),
		"the slot was made on the new primary")
	for moment, want := range map[string]int{"tx " + before: 1, "tx " + after: 2} {
		k, conn := s.restore(moment)
		assert.Equal(t, want, testbed.One[int](s.Bed, conn, "select max(n) from journal"), moment)
		require.NoError(t, conn.Close(context.Background()))
		s.discard(k)
	}
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")

	// Nobody captures, the slot is lost with its server, and WAL goes.
	s.service.Stop()
	second.Exec("postgres", "select pg_drop_replication_slot(slot_name) from pg_replication_slots", "alter system set wal_keep_size = 0",
		"alter system set min_wal_size = '32MB'", "alter system set max_wal_size = '32MB'", "select pg_reload_conf()")
	for range 6 {
		second.Exec("postgres", "select pg_switch_wal()",
			"insert into booking select n, '' from generate_series(100000, 100100) n on conflict do nothing", "checkpoint")
	}
	s.service.Start()
	s.Eventually("the hole is told", func() bool { k := s.cluster(); return k.Capture.State == "streaming" && len(k.Holes) == 1 })
	told := s.service.Must("reach", "ferries")
	assert.Regexp(t, `(?i)hole.* MiB`, told)
	assert.Contains(t, told, "velvet backup take ferries", "and what ends it")
	hole := s.cluster().Holes[0]
	located := s.service.Must("segment", "locate", "lsn "+hole.From.String(), "--cluster", "ferries")
	assert.Regexp(t, `it is +in a hole\nhole +from `+hole.From.String()+" to "+hole.To.String()+" on timeline 2: .*slot", located)
}

// failOver ends the primary and has the standby take over.
func (s *stage) failOver(to *testbed.Postgres) {
	conn := to.Connect("postgres")
	at := testbed.One[string](s.Bed, s.db, "select pg_current_wal_flush_lsn()::text")
	s.Eventually("the standby has everything", func() bool {
		return testbed.One[bool](s.Bed, conn, "select pg_last_wal_replay_lsn() >= $1::text::pg_lsn", at)
	})
	require.NoError(s, s.db.Close(context.Background()))
	s.ferries.Stop(host.Immediate)
	require.True(s, testbed.One[bool](s.Bed, conn, "select pg_promote()"))
	require.NoError(s, conn.Close(context.Background()))
	s.db = to.Connect("postgres")
}

// TestATimelineForksTwice has the server come to a new timeline twice while nobody captures, and once more
// while capture runs: it follows all of them, and every transaction is reached.
func TestATimelineForksTwice(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Configure("wal_keep_size = '512MB'")
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	promote := func() {
		require.NoError(t, s.db.Close(context.Background()))
		s.ferries.Stop(host.Fast)
		require.NoError(t, s.Host.WriteFile(filepath.Join(s.ferries.DataDir, "standby.signal"), nil, 0o600))
		s.ferries.Start()
		s.db = s.ferries.Connect("postgres")
		require.True(t, testbed.One[bool](s.Bed, s.db, "select pg_promote()"))
	}
	var committed []string
	commit := func() { committed = append(committed, s.commit(len(committed)+1)) }
	commit()
	s.captured()
	s.service.Stop()
	commit()
	promote()
	commit()
	promote()
	commit()
	s.service.Start()
	s.Eventually("capture follows over both", func() bool { k := s.cluster().Capture; return k.Timeline == 3 && k.State == "streaming" })
	s.captured()
	promote()
	commit()
	s.Eventually("and over the third", func() bool { k := s.cluster().Capture; return k.Timeline == 4 && k.State == "streaming" })
	s.captured()
	assert.Empty(t, s.cluster().Holes)
	for i, xid := range committed {
		k, conn := s.restore("tx " + xid)
		assert.Equal(t, i+1, testbed.One[int](s.Bed, conn, "select count(*) from journal"))
		require.NoError(t, conn.Close(context.Background()))
		s.discard(k)
	}
	assert.Contains(t, s.service.Must("store", "audit", "--full"), "Everything that is needed is there")
}
