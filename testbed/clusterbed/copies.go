package clusterbed

import (
	"context"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/moment"
	"velvetrewind/core/plan"
	"velvetrewind/core/task"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/restore/feed"
	"velvetrewind/engine/store/place"
)

// Main runs the tests of a package that makes copies. Their servers call the program of the tests for segments, in place
// of velvet.
func Main(m *testing.M) {
	if len(os.Args) == 7 && os.Args[1] == "segment" && os.Args[2] == "deliver" {
		if err := feed.Deliver(context.Background(), os.Args[4], os.Args[5], os.Args[6]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

// Maker makes copies of the cluster. No service answers them: segments come from the spool's rest and the store.
func (c *Cluster) Maker() *copies.Maker {
	programs := c.Path("programs")
	for _, d := range []string{programs, c.Path("copies")} {
		require.NoError(c, os.MkdirAll(d, 0o711))
		require.NoError(c, os.Chmod(d, 0o755))
	}
	program, err := c.Host.InstallProgram(programs)
	require.NoError(c, err)
	_, where, err := place.Open(context.Background(), c.Path("store"), "", "", c.Host.Group())
	require.NoError(c, err)
	return &copies.Maker{Catalog: c.Catalog, Store: c.Store, Place: where, Spool: c.Path("spool"),
		Ground: copies.Ground{Host: c.Host, Dir: c.Path("copies"), Program: program, Service: "http://127.0.0.1:1"},
		Key:    seal.Key{}, Changed: func(string) {}}
}

// Journal opens what there is of the cluster by now, and its journal.
func (c *Cluster) Journal() (*archive.Archive, *changes.Journal) {
	ctx := context.Background()
	a, err := archive.Open(ctx, c.Catalog, c.Store, c.Path("spool"), c.Record)
	require.NoError(c, err)
	book, err := c.Books.Of(ctx, c.Record.ID)
	require.NoError(c, err)
	j, err := changes.Open(ctx, a, layout.S2, book)
	require.NoError(c, err)
	return a, j
}

// Plan plans a restore to a moment.
func (c *Cluster) Plan(text string) (plan.Restore, error) {
	a, j := c.Journal()
	m, err := moment.Parse(text, moment.Caller{Now: time.Now(), Zone: time.UTC})
	require.NoError(c, err)
	p, _, err := restore.Plan(context.Background(), a, j, m)
	return p, err
}

// Copy makes a copy at a moment, which is removed when the test ends.
func (c *Cluster) Copy(maker *copies.Maker, text string) catalog.Copy {
	ctx := context.Background()
	var p plan.Restore
	c.Eventually(text+" can be planned", func() (ok bool) { p, ok = c.planned(text); return ok })
	k, err := maker.Prepare(ctx, c.Record, p, copies.Wish{})
	require.NoError(c, err)
	require.NoError(c, c.Catalog.AddCopy(ctx, k, nil))
	c.Cleanup(func() {
		k, err := c.Catalog.Copy(ctx, k.ID)
		require.NoError(c, err)
		require.NoError(c, maker.Remove(ctx, c.Record, k))
	})
	require.NoError(c, maker.Make(ctx, c.Record, k, p, task.Silent))
	return c.Seen(k)
}

func (c *Cluster) planned(text string) (plan.Restore, bool) {
	p, err := c.Plan(text)
	return p, err == nil
}

// Seen is what the catalogue has of a copy now.
func (c *Cluster) Seen(k catalog.Copy) catalog.Copy {
	k, err := c.Catalog.Copy(context.Background(), k.ID)
	require.NoError(c, err)
	return k
}
