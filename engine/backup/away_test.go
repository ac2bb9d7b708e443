package backup

import (
	"context"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// TestAway reads a data directory by way of a host's agent: what is read where it lies, and nothing where it is not beyond doubt that
// of the server.
func TestAway(t *testing.T) {
	b := testbed.New(t)
	p := b.Postgres("ferries", true)
	ledger := b.Path("ledger")
	require.NoError(t, b.Host.MakeDir(ledger, 0o700))
	p.Exec("postgres", "create tablespace ledger location '"+ledger+"'", "create table fare (n int) tablespace ledger",
		"insert into fare select generate_series(1, 1000)", "checkpoint")
	conn, ctx := p.Connect("postgres"), context.Background()
	id := uint64(testbed.One[int64](b, conn, "select system_identifier from pg_control_system()"))
	taker := &Taker{Cluster: catalog.Cluster{SystemID: id},
		Away: func(context.Context, catalog.Cluster) (host.Machine, error) { return b.Host, nil }}
	src := taker.openAway(ctx, conn)
	require.NotNil(t, src)
	spaces, err := tablespaces(ctx, conn)
	require.NoError(t, err)
	near, err := openLocal(p.DataDir, spaces)
	require.NoError(t, err)
	files := func(s source) (list []layout.File) {
		require.NoError(t, walk(ctx, s, pg.Major(p.Major), spaces, func(f layout.File) error {
			list = append(list, f)
			return nil
		}))
		slices.SortFunc(list, func(a, b layout.File) int { return strings.Compare(a.Path, b.Path) })
		return list
	}
	there, here := files(src), files(near)
	require.Equal(t, len(here), len(there))
	read := 0
	for i, f := range here {
		assert.Equal(t, []any{f.Path, f.Dir, f.Size}, []any{there[i].Path, there[i].Dir, there[i].Size})
		if f.Dir || f.Size == 0 {
			continue
		}
		a, err := src.open(ctx, f.Path)
		require.NoError(t, err)
		z, err := near.open(ctx, f.Path)
		require.NoError(t, err)
		x, err := io.ReadAll(io.NewSectionReader(a, 0, f.Size))
		require.NoError(t, err)
		y, err := io.ReadAll(io.NewSectionReader(z, 0, f.Size))
		require.NoError(t, err)
		assert.Equal(t, y, x, f.Path)
		require.NoError(t, a.Close())
		require.NoError(t, z.Close())
		read++
	}
	assert.Greater(t, read, 500)
	require.NoError(t, src.close())
	require.NoError(t, near.close())

	taker.Cluster.SystemID++
	assert.Nil(t, taker.openAway(ctx, conn), "another cluster")
	lock, err := b.Host.RealFiles(p.DataDir)
	require.NoError(t, err)
	content, err := lock.ReadFile("postmaster.pid")
	require.NoError(t, err)
	assert.True(t, startedThen(string(content), p.Port, testbed.One[time.Time](b, conn, "select pg_postmaster_start_time()")))
	assert.False(t, startedThen(string(content), p.Port+1, time.Now()), "another port")
	assert.False(t, startedThen(string(content), p.Port, time.Now().Add(time.Hour)), "another time")
	assert.False(t, startedThen("1", p.Port, time.Now()))
	require.NoError(t, lock.Close())
}
