package backup_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/task"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// taken takes a base backup, and gives what its task says.
func taken(t *testing.T, c *clusterbed.Cluster, taker *backup.Taker, kind string) (catalog.Backup, string) {
	report := newTell()
	b, err := taker.Take(context.Background(), backup.Options{ID: catalog.NewID(), Kind: kind, Checkpoint: backup.Fast}, report)
	require.NoError(t, err)
	return b, report.all()
}

// TestWhatABackupTellsOfItself takes base backups of a server whose configuration lies elsewhere, as on Debian, and compares
// what is told of them with the files themselves. Packs of which little is needed any more are condensed.
func TestWhatABackupTellsOfItself(t *testing.T) {
	ctx := context.Background()
	c := clusterbed.New(testbed.New(t), "autovacuum = off", "wal_keep_size = '1GB'")
	outside := c.Path("outside.conf")
	require.NoError(t, os.WriteFile(outside, []byte("work_mem = '7MB'\n"), 0o644))
	conf, err := os.OpenFile(filepath.Join(c.Server.DataDir, "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = conf.WriteString("include '" + outside + "'\n")
	require.NoError(t, err)
	require.NoError(t, conf.Close())
	c.Server.Exec("postgres", "select pg_reload_conf()",
		"create table ballast as select n as id, md5(n::text) || md5((2 * n)::text) as note from generate_series(1, 60000) n", "checkpoint")
	c.Capture()
	c.Eventually("capture streams", func() bool { return c.State().Receives() })

	first, said := taken(t, c, c.Taker(), layout.Full)
	assert.Contains(t, said, "saved "+outside+", which lies outside the data directory")
	laid, err := os.ReadFile(filepath.Join(filepath.Dir(c.LayOut(first.ID)), "config", "files", outside))
	require.NoError(t, err)
	assert.Equal(t, "work_mem = '7MB'\n", string(laid))

	c.Server.Exec("postgres", "update ballast set note = md5(note) || md5(note || 'tide')", "vacuum ballast", "checkpoint")
	second, said := taken(t, c, c.Taker(), layout.Incremental)
	assert.Equal(t, layout.Incremental, second.Kind)
	assert.Contains(t, said, "from "+c.Server.DataDir, "the server is on this host")

	book, err := c.Books.Of(ctx, c.Record.ID)
	require.NoError(t, err)
	content, err := backup.Describe(ctx, c.Store, c.Catalog, second, book.At(second.StoppedAt))
	require.NoError(t, err)
	data := c.LayOut(second.ID)
	for _, db := range content.Databases {
		if db.OID == 0 {
			continue
		}
		files, err := filepath.Glob(filepath.Join(data, "base", fmt.Sprint(db.OID), "[0-9]*"))
		require.NoError(t, err)
		var bytes int64
		for _, f := range files {
			info, err := os.Stat(f)
			require.NoError(t, err)
			bytes += info.Size()
		}
		assert.EqualValues(t, len(files), db.Files, db.Name)
		assert.Equal(t, bytes, db.Bytes, db.Name)
	}
	in, err := backup.Measure(ctx, c.Store)
	require.NoError(t, err)
	objects, sizes := int64(0), int64(0)
	require.NoError(t, c.Store.List(ctx, "clusters/"+c.Record.ID+"/", func(i store.Info) error {
		objects, sizes = objects+1, sizes+i.Size
		return nil
	}))
	m := in[c.Record.ID]
	assert.Equal(t, objects, m.Objects)
	assert.Equal(t, sizes, m.Packs+m.WAL+m.Journal)

	// Without the first, most of its packs is not needed: what is left of them is what the second shares.
	report := newTell()
	require.NoError(t, c.Catalog.DropBackup(ctx, first.ID))
	require.NoError(t, backup.Remove(ctx, c.Notices(), c.Catalog, c.Record.ID, first.ID, report))
	assert.Contains(t, report.all(), "condensed 1 pack of which little was needed")
	after, err := backup.Measure(ctx, c.Store)
	require.NoError(t, err)
	assert.Less(t, after[c.Record.ID].Packs, m.Packs*3/4)
	require.NoError(t, os.RemoveAll(filepath.Dir(data)))
	c.LayOut(second.ID)
}

// TestWhatHasChangedSinceRegistration takes base backups of a cluster of which other facts were recorded: they are taken over,
// and where a comparison would not be right everything is read.
func TestWhatHasChangedSinceRegistration(t *testing.T) {
	ctx := context.Background()
	c := clusterbed.New(testbed.New(t), "autovacuum = off", "wal_keep_size = '1GB'")
	c.Capture()
	c.Eventually("capture streams", func() bool { return c.State().Receives() })
	taken(t, c, c.Taker(), layout.Full)
	for what, change := range map[string]struct {
		as   func(*catalog.Cluster)
		says string
		full bool
	}{
		"nothing": {func(*catalog.Cluster) {}, "what has changed since base", false},
		"superuser": {func(k *catalog.Cluster) { k.Superuser = "another" }, "the superuser is called " + testbed.Superuser +
			" now; it was another", false},
		"data directory":  {func(k *catalog.Cluster) { k.DataDirectory = "/elsewhere" }, "now; it was /elsewhere", true},
		"minor version":   {func(k *catalog.Cluster) { k.ServerVersion -= k.ServerVersion % 100 }, "what has changed since base", false},
		"data checksums":  {func(k *catalog.Cluster) { k.DataChecksums = false }, "data checksums have been switched on", false},
		"no directory":    {func(k *catalog.Cluster) { k.DataDirectory = "" }, "what has changed since base", false},
		"another version": {func(k *catalog.Cluster) { k.ServerVersion += 10000 }, "", false},
		"other segments":  {func(k *catalog.Cluster) { k.SegmentSize = 1 << 20 }, "", false},
	} {
		taker := c.Taker()
		change.as(&taker.Cluster)
		if change.says == "" {
			_, err := taker.Take(ctx, backup.Options{ID: catalog.NewID(), Kind: backup.Auto, Checkpoint: backup.Fast}, task.Silent)
			assert.ErrorContains(t, err, "was registered with", what)
			continue
		}
		b, said := taken(t, c, taker, backup.Auto)
		assert.Contains(t, said, change.says, what)
		assert.Equal(t, change.full, b.Kind == layout.Full, "%s: %s", what, said)
		k, err := c.Catalog.Cluster(ctx, c.Record.Name)
		require.NoError(t, err)
		assert.Equal(t, []any{testbed.Superuser, c.Server.DataDir, c.Record.ServerVersion, true},
			[]any{k.Superuser, k.DataDirectory, k.ServerVersion, k.DataChecksums}, what)
		assert.True(t, strings.HasPrefix(taker.Cluster.Name, "ferries"))
	}
}
