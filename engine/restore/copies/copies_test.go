package copies_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

func TestMain(m *testing.M) { clusterbed.Main(m) }

var ctx = context.Background()

// TestLifeOfACopy makes a copy before an accident, moves it on and back, opens it, and removes it; in between it is
// refused what it cannot do, and its server dies and comes back.
func TestLifeOfACopy(t *testing.T) {
	c := clusterbed.New(testbed.New(t))
	c.Server.Exec("postgres", "create table booking (id int)", "insert into booking select generate_series(1, 1000)")
	c.Capture()
	c.Eventually("capture streams", func() bool { return c.State().Receives() })
	c.Take(layout.Full)
	c.Server.Exec("postgres", "insert into booking select generate_series(1, 10)", "delete from booking", "insert into booking values (1)")
	c.Captured()
	maker := c.Maker()
	rows := func(k catalog.Copy) (n int) {
		conn, err := copies.Connect(ctx, c.Host, k, c.Record, "postgres")
		require.NoError(t, err)
		defer func() { _ = conn.Close(ctx) }()
		require.NoError(t, conn.QueryRow(ctx, "select count(*) from public.booking").Scan(&n))
		return n
	}
	refused := func(err error, says string) {
		t.Helper()
		var p *problem.Problem
		require.ErrorAs(t, err, &p)
		assert.Contains(t, p.Error(), says)
	}

	k := c.Copy(maker, "before delete of booking")
	assert.Equal(t, catalog.CopyPaused, k.State)
	assert.Equal(t, "ferries-1", k.Name)
	assert.Equal(t, 1010, rows(k))
	assert.Equal(t, 1, testbed.One[int](c.Bed, c.SQL, "select count(*) from booking"), "the original is not touched")
	write := func(k catalog.Copy) error {
		conn, err := copies.Connect(ctx, c.Host, k, c.Record, "postgres")
		require.NoError(t, err)
		defer func() { _ = conn.Close(ctx) }()
		if _, err := conn.Exec(ctx, "set default_transaction_read_only = off"); err != nil { // as our own sessions have it
			return err
		}
		_, err = conn.Exec(ctx, "insert into public.booking values (2)")
		return err
	}
	require.ErrorContains(t, write(k), "read-only")
	conn, err := copies.Connect(ctx, c.Host, k, c.Record, "postgres")
	require.NoError(t, err)
	for setting, want := range map[string]string{"archive_mode": "off", "primary_conninfo": "", "synchronous_standby_names": ""} {
		var is string
		require.NoError(t, conn.QueryRow(ctx, "select current_setting($1)", setting).Scan(&is))
		assert.Equal(t, want, is, setting)
	}
	require.NoError(t, conn.Close(ctx))

	_, err = maker.Prepare(ctx, c.Record, mustPlan(c, "latest"), copies.Wish{Port: k.Port})
	refused(err, "listens on port")
	move := func(text string) {
		p := mustPlan(c, text)
		require.NoError(t, maker.Step(ctx, c.Record, k, p, nil, task.Silent))
		k = c.Seen(k)
		assert.Equal(t, catalog.CopyPaused, k.State)
	}
	move("latest")
	assert.Equal(t, 1, rows(k))
	move("before delete of booking")
	assert.Equal(t, 1010, rows(k))
	assert.Equal(t, 2, k.Moves)

	require.NoError(t, c.Host.Stop(ctx, copies.Server(k, c.Record.Major()), host.Fast))
	down, err := maker.Refresh(ctx, c.Record, k)
	require.NoError(t, err)
	assert.Equal(t, catalog.CopyDown, down.State)
	refused(maker.Open(ctx, c.Record, down, task.Silent), "only a paused copy can be opened")
	require.NoError(t, c.Host.StartAndWait(ctx, copies.Server(k, c.Record.Major())))
	c.Eventually("it is noticed that the server is back", func() bool {
		back, err := maker.Refresh(ctx, c.Record, c.Seen(k))
		return err == nil && back.State == catalog.CopyPaused
	})

	require.NoError(t, maker.Open(ctx, c.Record, c.Seen(k), task.Silent))
	k = c.Seen(k)
	assert.Equal(t, catalog.CopyOpen, k.State)
	require.NoError(t, write(k))
	stored, err := filepath.Glob(c.Path("store", "clusters", c.Record.ID, "wal", "00000002*"))
	require.NoError(t, err)
	assert.Empty(t, stored, "its new timeline goes to no archive")

	require.NoError(t, maker.Remove(ctx, c.Record, k))
	assert.Equal(t, catalog.CopyDiscarded, c.Seen(k).State)
	assert.NoDirExists(t, k.Directory)
	assert.True(t, c.Server.Answers(), "the original goes on")
}

func mustPlan(c *clusterbed.Cluster, text string) (p plan.Restore) {
	p, err := c.Plan(text)
	require.NoError(c, err)
	return p
}

// TestACopyThatFails leaves nothing behind but its record.
func TestACopyThatFails(t *testing.T) {
	c := clusterbed.New(testbed.New(t))
	c.Capture()
	c.Eventually("capture streams", func() bool { return c.State().Receives() })
	base := c.Take(layout.Full)
	c.Captured()
	p := mustPlan(c, "latest")
	maker := c.Maker()
	k, err := maker.Prepare(ctx, c.Record, p, copies.Wish{Name: "doomed"})
	require.NoError(t, err)
	require.NoError(t, c.Catalog.AddCopy(ctx, k, nil))
	packs, err := filepath.Glob(c.Path("store", "clusters", c.Record.ID, "packs", base.ID+"*"))
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	require.NoError(t, os.Truncate(packs[0], 100))
	require.Error(t, maker.Make(ctx, c.Record, k, p, task.Silent))
	assert.Equal(t, catalog.CopyDiscarded, c.Seen(k).State)
	assert.NoDirExists(t, k.Directory)
	assert.False(t, c.Host.PortTaken(k.Port))
}
