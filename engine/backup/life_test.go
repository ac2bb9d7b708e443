package backup_test

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// yard is a cluster of which base backups are taken.
type yard struct {
	*testing.T
	*clusterbed.Cluster
	held map[string]map[string]string // what each base backup holds: files by backup and path
}

func newYard(t *testing.T) *yard {
	y := &yard{T: t, held: make(map[string]map[string]string), Cluster: clusterbed.New(testbed.New(t), "autovacuum = off",
		"bgwriter_lru_maxpages = 0", "checkpoint_timeout = '1h'", "wal_keep_size = '1GB'")}
	require.NoError(t, y.Host.MakeDir(y.Path("original", "ledger"), 0o700))
	y.Server.Exec("postgres",
		"create tablespace ledger location '"+y.Path("original", "ledger")+"'",
		"create table booking as select n as id, repeat(md5(n::text), 4) as note from generate_series(1, 30000) n",
		"create table payment tablespace ledger as select n as id, n as cents from generate_series(1, 30000) n",
		"create table dropped as select n as id from generate_series(1, 1000) n",
		"create table emptied as select n as id from generate_series(1, 100000) n",
		"create unlogged table draft as select n as id from generate_series(1, 1000) n",
		"vacuum", "checkpoint")
	return y
}

// moving are files that differ between a server that runs and its base backup though nothing is written.
var moving = regexp.MustCompile(`^(pg_wal|pg_replslot|pg_stat_tmp|pg_stat|pg_dynshmem|pg_notify|pg_serial|pg_snapshots|pg_subtrans)/|` +
	`^(postmaster\..*|backup_label.*|tablespace_map|current_logfiles|global/pg_control|` +
	`pg_logical/replorigin_checkpoint)$|pg_internal\.init`)

// files are the regular files below a data directory by their hashes, without what moves and what is unlogged.
func (y *yard) files(data string, skip map[string]bool) map[string]string {
	found := make(map[string]string)
	require.NoError(y.T, filepath.WalkDir(data, func(path string, d fs.DirEntry, err error) error {
		require.NoError(y.T, err)
		name := strings.TrimPrefix(path, data+"/")
		if !d.Type().IsRegular() || moving.MatchString(name) || skip[name] {
			return nil
		}
		content, err := os.ReadFile(path)
		require.NoError(y.T, err)
		found[name] = fmt.Sprintf("%d %x", len(content), sha256.Sum256(content))
		return nil
	}))
	return found
}

// unlogged are the files of the unlogged table but for its init fork.
func (y *yard) unlogged() map[string]bool {
	main := testbed.One[string](y.Bed, y.SQL, "select pg_relation_filepath('draft')")
	return map[string]bool{main: true, main + "_fsm": true, main + "_vm": true}
}

// holdsServer holds that a base backup is what the server has now, which nobody writes to.
func (y *yard) holdsServer(b catalog.Backup) {
	y.Helper()
	data := y.LayOut(b.ID)
	skip := y.unlogged()
	want, got := y.files(y.Server.DataDir, skip), y.files(data, skip)
	require.Equal(y.T, want, got)
	y.held[b.ID] = got
	label, err := os.ReadFile(filepath.Join(data, "backup_label"))
	require.NoError(y.T, err)
	assert.Contains(y.T, string(label), "START WAL LOCATION: "+b.Start.String())
	assert.FileExists(y.T, filepath.Join(data, "global", "pg_control"))
	for name := range skip {
		assert.NoFileExists(y.T, filepath.Join(data, name))
	}
	ledger := func(root string) map[string]string { return y.files(root, nil) }
	spaces, err := filepath.Glob(y.Path("original", "ledger", "PG_*"))
	require.NoError(y.T, err)
	require.Len(y.T, spaces, 1)
	laid, err := filepath.Glob(filepath.Join(filepath.Dir(data), "tablespaces", "*", "PG_*"))
	require.NoError(y.T, err)
	require.Len(y.T, laid, 1)
	assert.Equal(y.T, ledger(spaces[0]), ledger(laid[0]))
}

// packs are the packs in the store, and how large they are together.
func (y *yard) packs() (n int, bytes int64) {
	require.NoError(y.T, y.Store.List(context.Background(), store.PackPrefix(y.Record.ID), func(i store.Info) error {
		n, bytes = n+1, bytes+i.Size
		return nil
	}))
	return n, bytes
}

// tell keeps what a task says.
type tell struct {
	task.Report
	said []string
}

func newTell() *tell { return &tell{Report: task.Silent} }

func (t *tell) Log(format string, args ...any) { t.said = append(t.said, fmt.Sprintf(format, args...)) }
func (t *tell) Warn(format string, args ...any) {
	t.said = append(t.said, fmt.Sprintf(format, args...))
}

func (t *tell) all() string { return strings.Join(t.said, "\n") }

// TestLifeOfBaseBackups takes full and incremental base backups of a changing server, in both ways of reading, finds
// that each is the server as it was, and drops them one by one: what the rest needs stays, and in the end nothing does.
func TestLifeOfBaseBackups(t *testing.T) {
	y := newYard(t)
	ctx := context.Background()
	require.NoError(t, y.Catalog.WantCapture(ctx, y.Record.ID, false))
	_, err := y.Taker().Take(ctx, backup.Options{ID: catalog.NewID(), Kind: backup.Auto, Checkpoint: backup.Fast}, task.Silent)
	var refused *problem.Problem
	require.ErrorAs(t, err, &refused, "without capture it would be worth nothing")
	require.NoError(t, y.Catalog.WantCapture(ctx, y.Record.ID, true))
	y.Capture()
	y.Eventually("capture streams", func() bool { return y.State().Receives() })

	first := y.Take(backup.Auto)
	assert.Equal(t, layout.Full, first.Kind, "there was none to compare with")
	assert.Less(t, first.Start, first.Stop)
	assert.False(t, first.StoppedAt.Before(first.StartedAt))
	assert.Zero(t, first.PageFaults)
	assert.Zero(t, first.BytesShared)
	assert.Positive(t, first.Pages)
	assert.LessOrEqual(t, first.NewExtents+first.ZeroExtents, first.Extents)
	assert.Empty(t, first.Beside)
	y.holdsServer(first)

	again := y.Take(layout.Full)
	assert.Equal(t, layout.Full, again.Kind)
	assert.Less(t, again.NewExtents*5, first.NewExtents, "hardly anything is new")
	assert.Greater(t, again.BytesShared*10, first.BytesStored*8)
	assert.Equal(t, first.Pages, again.Pages)
	y.holdsServer(again)

	change := func() {
		y.Server.Exec("postgres", "update booking set note = 'ebb' where id % 5000 = 0", "delete from emptied where id > 50",
			"vacuum emptied",
			"drop table if exists dropped", "create table if not exists later tablespace ledger as select n as id from "+
				"generate_series(1, 5000) n",
			"insert into payment select n, n from generate_series(1, 3000) n", "truncate draft", "checkpoint")
	}
	change()
	local := y.Take(backup.Auto)
	assert.Equal(t, layout.Incremental, local.Kind)
	assert.Equal(t, again.ID, local.Beside)
	assert.Less(t, local.BytesRead*3, again.BytesRead, "only what has changed is read")
	y.holdsServer(local)

	change()
	through := y.Taker()
	through.ThroughSQL = true
	report := newTell()
	sql, err := through.Take(ctx, backup.Options{ID: catalog.NewID(), Kind: layout.Incremental, Checkpoint: backup.Fast}, report)
	require.NoError(t, err)
	assert.Equal(t, layout.Incremental, sql.Kind, report.all())
	assert.Contains(t, report.all(), "through SQL")
	assert.Equal(t, local.ID, sql.Beside)
	y.holdsServer(sql)

	y.interrupted()
	y.damaged()
	y.dropped([]catalog.Backup{first, again, local, sql})
}

// interrupted ends a base backup on its way: nothing of it is left.
func (y *yard) interrupted() {
	n, bytes := y.packs()
	ctx, cancel := context.WithCancel(context.Background())
	id := catalog.NewID()
	stopper := newTell()
	_, err := y.Taker().Take(ctx, backup.Options{ID: id, Kind: layout.Full, Checkpoint: backup.Fast},
		&stopAt{tell: stopper, cancel: cancel})
	require.ErrorIs(y.T, err, context.Canceled)
	m, after := y.packs()
	assert.Equal(y.T, n, m)
	assert.Equal(y.T, bytes, after)
	_, err = y.Catalog.Backup(context.Background(), id)
	require.Error(y.T, err)
}

// stopAt cancels a base backup when it has begun.
type stopAt struct {
	*tell
	cancel func()
}

func (s *stopAt) Log(format string, args ...any) {
	if strings.HasPrefix(format, "backup %s begins") {
		s.cancel()
	}
}

// damaged has a page of a table be damaged on the server's disk: it is found, told of, and remembered by the next
// incremental backup, which does not read it.
func (y *yard) damaged() {
	path := filepath.Join(y.Server.DataDir, testbed.One[string](y.Bed, y.SQL, "select pg_relation_filepath('booking')"))
	flip := func() {
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		require.NoError(y.T, err)
		b := make([]byte, 1)
		_, err = f.ReadAt(b, 3*8192+5000)
		require.NoError(y.T, err)
		b[0] ^= 0x40
		_, err = f.WriteAt(b, 3*8192+5000)
		require.NoError(y.T, err)
		require.NoError(y.T, f.Close())
	}
	flip()
	full := y.Take(layout.Full)
	assert.EqualValues(y.T, 1, full.PageFaults)
	var pages []layout.DamagedPage
	require.NoError(y.T, json.Unmarshal(full.Damaged, &pages))
	require.Len(y.T, pages, 1)
	assert.EqualValues(y.T, 3, pages[0].Block)
	assert.Contains(y.T, pages[0].Path, filepath.Base(path))
	next := y.Take(layout.Incremental)
	assert.Equal(y.T, layout.Incremental, next.Kind)
	assert.EqualValues(y.T, 1, next.PageFaults, "until it is seen whole it stays known")
	flip()
	whole := y.Take(layout.Full)
	assert.Zero(y.T, whole.PageFaults)
	for _, b := range []catalog.Backup{full, next, whole} {
		y.drop(b)
	}
}

func (y *yard) drop(b catalog.Backup) {
	ctx := context.Background()
	require.NoError(y.T, y.Catalog.DropBackup(ctx, b.ID))
	require.NoError(y.T, backup.Remove(ctx, y.Notices(), y.Catalog, y.Record.ID, b.ID, task.Silent))
}

// dropped drops base backups one after the other, and lays out one of the rest each time.
func (y *yard) dropped(list []catalog.Backup) {
	ctx := context.Background()
	for len(list) > 0 {
		_, before := y.packs()
		y.drop(list[0])
		_, after := y.packs()
		assert.LessOrEqual(y.T, after, before)
		_, err := backup.ReadManifest(ctx, y.Store, y.Record.ID, list[0].ID, layout.Visit{})
		require.ErrorIs(y.T, err, store.ErrNotFound)
		list = list[1:]
		if len(list) > 0 {
			b := list[rand.IntN(len(list))]
			require.Equal(y.T, y.held[b.ID], y.files(y.LayOut(b.ID), nil), b.Kind)
		}
	}
	n, _ := y.packs()
	assert.Zero(y.T, n)
}
