// Package clusterbed protects a real server with the rooms of the engine, in the process of the test and without a
// service, so that a room is tested by itself in a second or two.
//
// Invariant: what it starts ends with the test, and what the rooms did is judged by the server's own files and
// answers. It is apart from testbed, which the packages that it imports are tested with.
package clusterbed

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/capture"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/notice"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
)

// Cluster is a protected server, its catalogue and its store.
type Cluster struct {
	*testbed.Bed
	Server  *testbed.Postgres
	SQL     *pgx.Conn // to the server's database postgres
	Catalog *catalog.Catalog
	Store   *vault.Vault
	Record  catalog.Cluster
	Books   *names.Books
	Log     *slog.Logger
	// Supervisor captures from Capture on; what it is to be else is set before.
	Supervisor *capture.Supervisor
}

// New makes a server with a catalogue, and a store in the directory "store" of the bed, which is not encrypted.
func New(b *testbed.Bed, settings ...string) *Cluster { return NewWith(b, true, settings...) }

// NewWith makes one with data checksums or without.
func NewWith(b *testbed.Bed, checksums bool, settings ...string) *Cluster {
	c := &Cluster{Bed: b, Server: b.Postgres("original", checksums, settings...), Log: slog.New(slog.DiscardHandler)}
	c.Connect()
	ctx := context.Background()
	var err error
	c.Catalog, err = catalog.Open(ctx, b.Postgres("catalogue", false).DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(b, err)
	b.Cleanup(c.Catalog.Close)
	c.Books = &names.Books{Catalog: c.Catalog}
	c.Record = catalog.Cluster{ID: catalog.NewID(), Name: "ferries", SegmentSize: pg.DefaultSegmentSize, Slot: "tide",
		Superuser: testbed.Superuser, DataChecksums: checksums,
		DataDirectory: c.Server.DataDir, ServerVersion: testbed.One[int](b, c.SQL, "select current_setting('server_version_num')::int")}
	c.Record.SystemID = uint64(testbed.One[int64](b, c.SQL, "select system_identifier from pg_control_system()"))
	require.NoError(b, c.Catalog.AddCluster(ctx, c.Record))
	objects, err := dir.Open(b.Path("store"), b.Host.Group())
	require.NoError(b, err)
	c.Keep(objects)
	require.NoError(b, os.Mkdir(b.Path("spool"), 0o700))
	return c
}

// Connect opens SQL anew, after a restart.
func (c *Cluster) Connect() { c.SQL = c.Server.Connect("postgres") }

// Keep has everything be kept in a store from now on.
func (c *Cluster) Keep(objects store.Store) {
	c.Store = vault.Reading(objects, nil, nil)
	c.Supervisor = &capture.Supervisor{
		Catalog: c.Catalog, Store: c.Store, Spool: c.Path("spool"), SpoolLimit: 1 << 30, Codec: layout.S2, Books: c.Books,
		Log: c.Log, Instance: 1,
		Access:  func(catalog.Cluster) (access.Access, error) { return c.Access(), nil },
		Changed: func(string) {},
	}
}

// Access is how the rooms log in.
func (c *Cluster) Access() access.Access {
	return access.Access{ConnString: c.Server.DSN(testbed.Superuser, "postgres"), Password: testbed.Password}
}

// Capture captures until stop, which waits for the end, or the test's end.
func (c *Cluster) Capture() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); c.Supervisor.Run(ctx) }()
	stop = func() { cancel(); <-ended }
	c.Cleanup(stop)
	return stop
}

// State is what is recorded of the capture.
func (c *Cluster) State() catalog.Capture {
	k, err := c.Catalog.Capture(context.Background(), c.Record.ID)
	require.NoError(c, err)
	return k
}

// Ended is where the server's WAL ends.
func (c *Cluster) Ended() pg.LSN {
	at, err := pg.ParseLSN(testbed.One[string](c.Bed, c.SQL, "select pg_current_wal_insert_lsn()::text"))
	require.NoError(c, err)
	return at
}

// Captured waits until all that the server has written by now is safe.
func (c *Cluster) Captured() {
	end := c.Ended()
	c.Server.Exec("postgres", "select pg_logical_emit_message(true, 'tide', '')") // a flush takes with it what was written
	c.Eventually("everything is safe", func() bool { return c.State().FlushedLSN >= end })
}

// Stored finishes the server's segment, and waits until it is in the store.
func (c *Cluster) Stored() {
	c.Server.Exec("postgres", "select pg_switch_wal()")
	end := c.Record.SegmentSize.Start(c.Record.SegmentSize.Number(c.Ended() - 1))
	c.Eventually("everything is in the store", func() bool { return c.State().StoredLSN >= end })
}

// Taker takes base backups.
func (c *Cluster) Taker() *backup.Taker {
	return &backup.Taker{Cluster: c.Record, Access: c.Access(), Catalog: c.Catalog, Store: c.Store, Notices: c.Notices(), Books: c.Books,
		Codec: layout.S2, Spool: c.Path("spool"), Now: time.Now}
}

// Notices has what is dropped be deleted at once.
func (c *Cluster) Notices() *notice.Board { return &notice.Board{Store: c.Store, Now: time.Now} }

// Take takes a base backup of a kind.
func (c *Cluster) Take(kind string) catalog.Backup {
	b, err := c.Taker().Take(context.Background(), backup.Options{ID: catalog.NewID(), Kind: kind, Checkpoint: backup.Fast}, task.Silent)
	require.NoError(c, err)
	return b
}

// LayOut lays a base backup out in an empty directory, and gives the place of its data directory.
func (c *Cluster) LayOut(id string) (data string) {
	root := c.Path("laid-" + id)
	require.NoError(c, os.RemoveAll(root))
	require.NoError(c, c.Host.MakeDir(root, 0o700))
	tree, err := c.Host.Files(root)
	require.NoError(c, err)
	defer func() { _ = tree.Close() }()
	trees := restore.Trees{Files: tree, Data: "data", Tablespaces: "tablespaces", Config: "config"}
	for _, d := range []string{trees.Data, trees.Tablespaces, trees.Config} {
		require.NoError(c, tree.MakeDir(d, 0o700))
	}
	_, err = restore.LayOut(context.Background(), c.Store, c.Record.ID, id, trees, 0, task.Silent)
	require.NoError(c, err)
	return filepath.Join(root, trees.Data)
}
