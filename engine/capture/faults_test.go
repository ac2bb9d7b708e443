package capture

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
)

// TestEveryCallFailsOnce captures a server while each kind of call on the disks of spool and store
// fails, several times each. In the end all of the server's WAL is in the store, byte for byte, and
// no hole was made.
func TestEveryCallFailsOnce(t *testing.T) {
	usual := longestWait
	longestWait = firstBackoff
	t.Cleanup(func() { longestWait = usual })
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	b := testbed.New(t)
	p := b.Postgres("original", true, "wal_keep_size = '2GB'", "autovacuum = off", "max_wal_size = '4GB'")
	p.Exec("postgres", "create table cargo (id int, note text)")
	c, err := catalog.Open(ctx, b.Postgres("catalogue", false).DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(t, err)
	t.Cleanup(c.Close)
	conn := p.Connect("postgres")
	k := catalog.Cluster{ID: catalog.NewID(), Name: "ferries", SegmentSize: pg.DefaultSegmentSize, Slot: "tide",
		Superuser: testbed.Superuser, ServerVersion: 150000}
	require.NoError(t, conn.QueryRow(ctx, "select system_identifier from pg_control_system()").Scan(&k.SystemID))
	require.NoError(t, c.AddCluster(ctx, k))

	spoolFaults, storeFaults := testbed.NewFaults(2, 5), testbed.NewFaults(2, 5)
	root := t.TempDir()
	objects, err := dir.OpenOn(storeFaults, filepath.Join(root, "store"), -1)
	require.NoError(t, err)
	s := &Supervisor{
		Catalog: c, Store: vault.Reading(objects, nil, nil), Spool: filepath.Join(root, "spool"), SpoolLimit: 1 << 30, Codec: layout.S2,
		Books: &names.Books{Catalog: c}, Log: slog.New(slog.DiscardHandler), Disk: spoolFaults, Instance: 1,
		Access: func(catalog.Cluster) (access.Access, error) {
			return access.Access{ConnString: p.DSN(testbed.Superuser, "postgres"), Password: testbed.Password}, nil
		},
		Changed: func(string) {},
	}
	require.NoError(t, os.Mkdir(s.Spool, 0o700))
	ended := make(chan struct{})
	go func() { defer close(ended); s.Run(ctx) }()
	state := func() catalog.Capture {
		k, err := c.Capture(ctx, k.ID)
		require.NoError(t, err)
		return k
	}
	b.Eventually("capture has begun", func() bool { return state().FlushedLSN > 0 })
	first := pg.DefaultSegmentSize.Number(state().FlushedLSN) + 1
	for n := range 24 {
		p.Exec("postgres", fmt.Sprintf("insert into cargo select n, repeat('c', 400) from generate_series(1, %d) n", 2000+n*500),
			"select pg_switch_wal()")
	}
	end, err := pg.ParseLSN(testbed.One[string](b, conn, "select pg_current_wal_insert_lsn()::text"))
	require.NoError(t, err)
	last := pg.DefaultSegmentSize.Number(end) - 1
	holes := false
	b.Eventually("everything is in the store", func() bool {
		runs, err := c.Runs(ctx, k.ID)
		holes = holes || err != nil || len(runs) > 1
		return state().StoredLSN >= pg.DefaultSegmentSize.Start(last+1)
	})
	cancel()
	<-ended
	assert.False(t, holes, "segments are stored in their order")

	for n := first; n <= last; n++ {
		seg := pg.Segment{Timeline: 1, Number: n}
		name := seg.Name(k.SegmentSize)
		want, err := os.ReadFile(filepath.Join(p.DataDir, "pg_wal", name))
		require.NoError(t, err)
		r, err := s.Store.Segment(context.Background(), k.ID, seg, k.SegmentSize)
		for err != nil && strings.Contains(err.Error(), "made to fail") {
			r, err = s.Store.Segment(context.Background(), k.ID, seg, k.SegmentSize)
		}
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got), "segment %s is as the server has it", name)
	}
	all := context.Background()
	lost, err := c.Losses(all, k.ID)
	require.NoError(t, err)
	assert.Empty(t, lost.Unreadable)
	for at, failed := range map[string]map[string]int{"spool": spoolFaults.Failed(), "store": storeFaults.Failed()} {
		t.Logf("%s: %v", at, failed)
		for _, call := range []string{"open", "flush", "close", "rename", "flush directory", "write", "read", "remove"} {
			assert.True(t, slices.ContainsFunc(slices.Collect(maps.Keys(failed)),
				func(key string) bool { return strings.HasPrefix(key, call+" ") }) || at == "store" && call == "remove",
				"%s on the %s's disk failed", call, at)
		}
	}
}
