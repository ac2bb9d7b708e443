package restore_test

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"velvetrewind/core/inventory"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// ground is a cluster with two base backups, and its store.
type ground struct {
	*testbed.Bed
	vault   *vault.Vault
	cluster string
	backups []string
}

func newGround(t *testing.T) *ground {
	c := clusterbed.New(testbed.New(t))
	require.NoError(t, c.Host.MakeDir(c.Path("original", "ledger"), 0o700))
	c.Server.Exec("postgres",
		"create tablespace ledger location '"+c.Path("original", "ledger")+"'",
		"create table booking as select n as id, repeat('tide ', n % 50) as note from generate_series(1, 60000) n",
		"create table payment tablespace ledger as select n as id, n as cents from generate_series(1, 30000) n",
		"create table dropped as select n as id from generate_series(1, 1000) n")
	// A file that is zeroes, of which nothing is stored, but for a word.
	sand := append(append(make([]byte, 700_000), "shell"...), make([]byte, 600_001)...)
	require.NoError(t, os.WriteFile(filepath.Join(c.Server.DataDir, "dune"), dune(), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(c.Server.DataDir, "sand"), sand, 0o644))
	c.Capture()
	c.Eventually("capture streams", func() bool { return c.State().Receives() })
	first := c.Take(layout.Full)
	c.Server.Exec("postgres", "update booking set note = 'ebb' where id % 500 = 0", "truncate payment", "drop table dropped",
		"create table later tablespace ledger as select n as id from generate_series(1, 1000) n")
	return &ground{Bed: c.Bed, vault: c.Store, cluster: c.Record.ID, backups: []string{first.ID, c.Take(layout.Full).ID}}
}

// dune is a file of zeroes that is laid out in several parts, with a word in each.
func dune() []byte {
	content := make([]byte, 70<<20+12_345)
	for at := 1 << 20; at < len(content); at += 17 << 20 {
		copy(content[at:], fmt.Sprint("shell ", at))
	}
	return content
}

// trees makes directories to lay a backup out in.
func (g *ground) trees(name string) restore.Trees {
	require.NoError(g, g.Host.MakeDir(g.Path(name), 0o700))
	tree, err := g.Host.Files(g.Path(name))
	require.NoError(g, err)
	g.Cleanup(func() { _ = tree.Close() })
	t := restore.Trees{Files: tree, Data: "data", Tablespaces: "tablespaces", Config: "config"}
	for _, d := range []string{t.Data, t.Tablespaces, t.Config} {
		require.NoError(g, t.MakeDir(d, 0o700))
	}
	return t
}

// contents tells what is below a directory: kinds, modes, lengths and hashes by path.
func (g *ground) contents(root string) map[string]string {
	is := make(map[string]string)
	require.NoError(g, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		require.NoError(g, err)
		info, err := d.Info()
		require.NoError(g, err)
		is[path[len(root):]] = info.Mode().String()
		if info.Mode().IsRegular() {
			content, err := os.ReadFile(path)
			require.NoError(g, err)
			is[path[len(root):]] += fmt.Sprintf(" %d %x", len(content), blake3.Sum256(content))
		}
		return nil
	}))
	return is
}

// TestLayOver lays backups over each other, and over what was damaged in every way that
// comes to mind, and finds what laying them out in empty directories gives.
func TestLayOver(t *testing.T) {
	g, ctx := newGround(t), context.Background()
	want := make(map[string]map[string]string)
	for _, id := range g.backups {
		_, err := restore.LayOut(ctx, g.vault, g.cluster, id, g.trees(id), 0, task.Silent)
		require.NoError(t, err)
		want[id] = g.contents(g.Path(id))
	}
	require.NotEqual(t, want[g.backups[0]], want[g.backups[1]])

	over := g.trees("over")
	_, err := restore.LayOut(ctx, g.vault, g.cluster, g.backups[0], over, 0, task.Silent)
	require.NoError(t, err)
	_, err = restore.LayOut(ctx, g.vault, g.cluster, g.backups[1], over, 0, task.Silent)
	assert.ErrorIs(t, err, fs.ErrExist, "nothing is overwritten unasked")
	wrongKinds(t, over)
	files, told := openFiles(t), &furthest{Report: task.Silent}
	_, err = restore.LayOver(ctx, g.vault, g.cluster, g.backups[0], over, 0, told)
	require.NoError(t, err)
	require.Equal(t, want[g.backups[0]], g.contents(g.Path("over")), "whatever stood there")
	assert.Equal(t, files, openFiles(t), "every file is closed")
	assert.EqualValues(t, sizes(t, g.Path("over")), told.done.Load(), "progress tells of every byte")
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(7, seed))
	for round := range 8 {
		id := g.backups[random.IntN(2)]
		write(t, over.Path("data/sand"), random.Int64N(1_300_000)) // before it may be taken away
		damage(t, random, g.Path("over"), random.IntN(40))
		laid, err := restore.LayOver(ctx, g.vault, g.cluster, id, over, 0, task.Silent)
		require.NoError(t, err, "seed %d, round %d", seed, round)
		require.Equal(t, want[id], g.contents(g.Path("over")), "seed %d, round %d", seed, round)
		assert.Positive(t, laid.Kept)
		assert.Equal(t, id, laid.Head.Backup)
	}
}

// wrongKinds puts directories and links in the place of files, and files and links in that of directories.
func wrongKinds(t *testing.T, over restore.Trees) {
	for _, name := range []string{"data/dune", "data/PG_VERSION", "data/base/1", "data/pg_multixact"} {
		require.NoError(t, os.RemoveAll(over.Path(name)))
	}
	require.NoError(t, os.MkdirAll(over.Path("data/dune/below"), 0o700))
	require.NoError(t, os.Symlink("/nowhere", over.Path("data/PG_VERSION")))
	require.NoError(t, os.WriteFile(over.Path("data/base/1"), []byte("a file"), 0o600))
	require.NoError(t, os.Symlink("/tmp", over.Path("data/pg_multixact")))
}

func openFiles(t *testing.T) int {
	list, err := os.ReadDir("/proc/self/fd")
	require.NoError(t, err)
	return len(list)
}

// furthest is the most progress that was told.
type furthest struct {
	task.Report
	done atomic.Int64
}

func (f *furthest) Progress(done, _ int64, _ task.Unit, _ string) {
	for {
		was := f.done.Load()
		if done <= was || f.done.CompareAndSwap(was, done) {
			return
		}
	}
}

func sizes(t *testing.T, root string) (sum int64) {
	require.NoError(t, filepath.WalkDir(root, func(_ string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		if d.Type().IsRegular() {
			info, err := d.Info()
			require.NoError(t, err)
			sum += info.Size()
		}
		return nil
	}))
	return sum
}

// TestPlans resolves moments of a real cluster, and refuses those to which nothing leads.
func TestPlans(t *testing.T) {
	c, ctx := clusterbed.New(testbed.New(t)), context.Background()
	c.Capture()
	c.Eventually("capture streams", func() bool { return c.State().Receives() })
	var refused *problem.Problem
	_, err := c.Plan("latest")
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "ferries has no base backup yet", refused.Detail)
	early := c.Ended()
	base := c.Take(layout.Full)
	c.Server.Exec("postgres", "create table booking (id int)", "insert into booking values (1)", "delete from booking")
	c.Captured()
	var p plan.Restore
	c.Eventually("the new table's name is known", func() bool { p, err = c.Plan("before delete of booking"); return err == nil })
	assert.Equal(t, base.ID, p.Base)
	assert.Equal(t, base.Start, p.Start)
	assert.Greater(t, p.Boundary.Stop, base.Stop)
	assert.Positive(t, p.Count)
	c.Server.Exec("postgres", "create table fare (id int, price int)", "insert into fare select n, n from generate_series(1, 400) n",
		"update fare set price = price + 1 where id = 7", "update fare set price = 1")
	c.Captured()
	c.Eventually("the fares' name is known", func() bool { p, err = c.Plan("before insert of fare"); return err == nil })
	inserted := p.Boundary.FirstOut.XID
	p, err = c.Plan("before update of fare")
	require.NoError(t, err)
	assert.Equal(t, inserted+2, p.Boundary.FirstOut.XID, "not the update of one fare")
	c.Server.Exec("postgres", "create database islets", "create database shoals")
	c.Server.Exec("islets", "create table cove (n int)")
	c.Eventually("the databases' names are known", func() bool {
		book, err := c.Books.Of(ctx, c.Record.ID)
		return err == nil && len(book.Databases("islets")) == 1 && len(book.Databases("shoals")) == 1
	})
	c.Server.Exec("postgres", "drop database shoals", "drop database islets", "create table after_all ()")
	dropped := testbed.One[int64](c.Bed, c.SQL, "select (pg_current_xact_id()::text::bigint)") - 2
	c.Captured()
	p, err = c.Plan("before drop of database islets")
	require.NoError(t, err)
	assert.EqualValues(t, dropped, p.Boundary.FirstOut.XID)
	_, err = c.Plan("before drop of database postgres")
	require.ErrorContains(t, err, "no transaction in the captured WAL dropped database postgres")
	_, err = c.Plan("before lsn " + early.String())
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, problem.OutOfReach, refused.Kind)
	_, err = c.Plan("restore point nobody's")
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, problem.NotFound, refused.Kind)
	require.NoError(t, c.Catalog.NoteLosses(ctx, c.Record.ID, inventory.Losses{Backups: []string{base.ID}}, true))
	_, err = c.Plan("latest")
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Detail, "an audit found that no base backup of ferries can be read")
}

// damage changes some of what is below a directory.
func damage(t *testing.T, random *rand.Rand, root string, times int) {
	var paths []string
	require.NoError(t, filepath.WalkDir(root, func(path string, _ fs.DirEntry, err error) error {
		if filepath.Dir(path) != root && path != root {
			paths = append(paths, path)
		}
		return err
	}))
	for range times {
		path := paths[random.IntN(len(paths))]
		info, err := os.Lstat(path)
		if err != nil {
			continue // gone already
		}
		if !info.Mode().IsRegular() {
			if random.IntN(10) == 0 {
				require.NoError(t, os.RemoveAll(path))
				require.NoError(t, os.WriteFile(path, []byte("a file in the place of a directory"), 0o666))
			}
			continue
		}
		switch random.IntN(7) {
		case 0:
			require.NoError(t, os.Remove(path))
		case 1:
			require.NoError(t, os.Truncate(path, info.Size()/2))
		case 2:
			require.NoError(t, os.Truncate(path, info.Size()+2*layout.ExtentSize+5))
		case 3:
			require.NoError(t, os.Remove(path))
			require.NoError(t, os.MkdirAll(filepath.Join(path, "below"), 0o777))
		case 4:
			require.NoError(t, os.Remove(path))
			require.NoError(t, os.Symlink("/nowhere", path))
		case 5:
			require.NoError(t, os.WriteFile(path+".stray", make([]byte, pg.BlockSize), 0o600))
		default:
			write(t, path, random.Int64N(info.Size()+1))
			require.NoError(t, os.Chmod(path, 0o666))
		}
	}
}

func write(t *testing.T, path string, at int64) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("low tide"), at)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}
