package copies

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"net"
	"path/filepath"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/figures"
	"velvetrewind/core/layout"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/wire"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/store/place"
	"velvetrewind/engine/store/vault"
)

// Maker makes, follows, opens and discards copies.
type Maker struct {
	Catalog *catalog.Catalog
	Store   *vault.Vault
	Place   place.Place // of the store, for deliveries
	Ground              // on the service's own host
	// Elsewhere gives the ground on a host with an agent, which must be in reach.
	Elsewhere func(host string) (Ground, error)
	// InReach lists those hosts.
	InReach func() []string
	Spool   string
	Key     seal.Key
	Changed func(copyID string)
}

// What is in a copy's directory.
const (
	dataDir     = "data"
	tablespaces = "tablespaces"
	serverLog   = "server.log"
	feedDir     = "feed"
	ticketFile  = "ticket.json"
)

// OriginalConfiguration is where, below a copy's directory, the configuration of its original is kept.
const OriginalConfiguration = "original-configuration"

// ConfigurationOfToday is where, in the directory of a copy that is laid over the original's own files, these's configuration is kept.
const ConfigurationOfToday = "configuration-of-today"

// Server is the server of a copy.
func Server(k catalog.Copy, major int) host.Server {
	return host.Server{Major: major, DataDir: filepath.Join(k.Directory, dataDir), Port: k.Port, Socket: k.Socket,
		Log: filepath.Join(k.Directory, serverLog)}
}

// Check refuses a copy that is not to be touched.
func (c *Maker) Check(k catalog.Copy) error {
	_, err := c.of(k)
	return err
}

// of gives the keeper of a copy, who works as its OS user. The copy's record must name the place
// that follows from its id: another is nothing that we made, and nothing that we remove.
func (c *Maker) of(k catalog.Copy) (*Maker, error) {
	const title = "the copy was not touched"
	if !catalog.ValidID(k.ID) {
		return nil, problem.New(problem.Failed, "See who writes to the catalogue.", title, "%q is no id that the catalogue gives", k.ID)
	}
	own, err := c.on(k.Host)
	if err != nil {
		return nil, err
	}
	if want := filepath.Join(own.Dir, k.ID); k.Directory != want {
		return nil, problem.New(problem.Conflict, "Serve with the directory that the copies were made in: --copies", title,
			"its record says that it lies in %s, but its place is %s", k.Directory, want)
	}
	at, err := own.Host.Under(k.OSUser)
	if err != nil {
		return nil, problem.Wrap(err, problem.Conflict, title, "Serve with every OS user that copies were made as.")
	}
	own.Host = at
	return own, nil
}

// Connect opens a session on a copy on a machine through its Unix socket, as the bootstrap superuser: by its
// name of today or, where the copy is of before it was renamed, by an earlier one.
func Connect(ctx context.Context, m host.Machine, k catalog.Copy, cluster catalog.Cluster, database string) (*pgx.Conn, error) {
	former, err := cluster.FormerSuperusers()
	if err != nil {
		return nil, err
	}
	parameters := make(map[string]string)
	if v := cluster.Version(); v != nil && v.EventTriggers {
		parameters["event_triggers"] = "off"
	}
	conn, err := connect(ctx, m, k, cluster.Superuser, database, parameters)
	for i := len(former) - 1; i >= 0 && noSuchRole(err); i-- {
		conn, err = connect(ctx, m, k, former[i], database, parameters)
	}
	return conn, err
}

func noSuchRole(err error) bool {
	var pgErr *pgconn.PgError
	return errors.As(err, &pgErr) && pgErr.Code == "28000"
}

// ConnectAs opens a session on a copy as any role, with that role's rights.
func ConnectAs(ctx context.Context, m host.Machine, k catalog.Copy, role, database string) (*pgx.Conn, error) {
	return connect(ctx, m, k, role, database, nil)
}

func connect(ctx context.Context, m host.Machine, k catalog.Copy, role, database string, parameters map[string]string) (
	*pgx.Conn, error) {
	cfg, err := pgx.ParseConfig("sslmode=disable connect_timeout=5")
	if err != nil {
		return nil, err
	}
	cfg.Host, cfg.Port = k.Socket, uint16(k.Port)
	cfg.User, cfg.Password, cfg.Database = role, "", database
	cfg.Fallbacks = nil
	cfg.DialFunc = func(ctx context.Context, _, _ string) (net.Conn, error) {
		return m.Dial(ctx, host.Server{DataDir: filepath.Join(k.Directory, dataDir), Port: k.Port, Socket: k.Socket})
	}
	cfg.RuntimeParams["application_name"] = access.AppName
	access.Guard(cfg.RuntimeParams)
	maps.Copy(cfg.RuntimeParams, parameters)
	return pgx.ConnectConfig(ctx, cfg)
}

// Wish is what may be asked of a new copy.
type Wish struct {
	Host string // "" is the service's own
	Name string // "" for a free one
	Port int    // 0 for a free one
	Over bool   // it is to be laid over the original's own files
}

// Prepare checks what is asked of a new copy, or chooses it, and fills in what it is.
func (c *Maker) Prepare(ctx context.Context, cluster catalog.Cluster, p plan.Restore, w Wish) (catalog.Copy, error) {
	k := catalog.Copy{
		ID: catalog.NewID(), Over: w.Over, Host: w.Host, Name: w.Name, ClusterID: cluster.ID, BackupID: p.Base,
		Moment: p.Boundary.Moment, Port: w.Port, State: catalog.CopyLayingOut, OSUser: cluster.CopiesUser,
	}
	c, err := c.on(w.Host)
	if err != nil {
		return k, err
	}
	if w.Host != "" {
		k.OSUser = "" // the cluster's is one of the service's own host
		if err := c.admits(ctx, w.Host, cluster, p.Base); err != nil {
			return k, err
		}
	}
	if _, err := c.Host.Under(k.OSUser); err != nil {
		return k, problem.Wrap(err, problem.Conflict, "the copy was not made",
			"Or give the cluster another: velvet cluster edit "+cluster.Name+" --copies-user USER")
	}
	if _, err := c.hasMemory("the copy was not made"); err != nil {
		return k, err
	}
	if w.Port != 0 {
		taken, err := c.Host.Listens(w.Port)
		if err != nil {
			return k, err
		}
		if taken {
			return k, problem.New(problem.Conflict, "Choose another with --port, or leave it out to have a free one chosen.",
				"the copy was not made", "something listens on port %d already", w.Port)
		}
	}
	if w.Port == 0 {
		free, err := c.Host.FreePort()
		if err != nil {
			return k, err
		}
		k.Port = free
	}
	if k.Name == "" {
		free, err := c.Catalog.FreeCopyName(ctx, cluster)
		if err != nil {
			return k, err
		}
		k.Name = free
	}
	k.Directory = filepath.Join(c.Dir, k.ID)
	encoded, err := json.Marshal(p)
	k.Plan = encoded
	return k, err
}

// Make lays the copy out, starts it and follows its recovery to the moment, where
// it stays, paused and read-only. On an error nothing of it is left.
func (c *Maker) Make(ctx context.Context, cluster catalog.Cluster, k catalog.Copy, p plan.Restore, report task.Report) (err error) {
	defer func() { c.undo(ctx, cluster, k, err, report) }()
	own, err := c.of(k)
	if err != nil {
		return err
	}
	backup, err := c.Catalog.Backup(ctx, k.BackupID)
	if err != nil {
		return err
	}
	return own.make(ctx, cluster, &k, backup, p, nil, report)
}

// make makes one, whole if part is nil; what it leaves on an error is the caller's.
func (c *Maker) make(ctx context.Context, cluster catalog.Cluster, k *catalog.Copy, backup catalog.Backup, p plan.Restore,
	part *part, report task.Report) error {
	if err := c.hasRoom(backup, 0, "the copy was not made"); err != nil {
		return err
	}
	trees, err := c.makeDirs(k)
	if err != nil {
		return err
	}
	defer func() { _ = trees.Close() }()
	report.Log("laying out base %s in %s", backup.ID, k.Directory)
	var laid restore.Laid
	if part == nil {
		laid, err = c.layOut(ctx, *k, backup, trees, false, nil, report)
	} else {
		laid, err = c.layOutPart(ctx, *k, backup, trees, part, report)
	}
	if err != nil {
		return err
	}
	return c.replay(ctx, cluster, *k, p, part, laid.Head, trees, report)
}

// Step moves a paused copy to another moment, or makes one anew that is down: the base of the new plan is laid over what
// is there, and the copy replays anew. A move that is refused leaves the copy where it is;
// one that was begun and fails leaves nothing of it, but for one that is over the original's own files: these stay.
func (c *Maker) Step(ctx context.Context, cluster catalog.Cluster, k catalog.Copy, p plan.Restore, replays []catalog.Stretch,
	report task.Report) (err error) {
	own, err := c.of(k)
	if err != nil {
		return err
	}
	c = own
	backup, err := c.Catalog.Backup(ctx, p.Base)
	if err != nil {
		return err
	}
	held, err := c.used(k)
	if err != nil {
		return err
	}
	if err := c.hasRoom(backup, held, "the copy was not moved"); err != nil {
		return err
	}
	k.BackupID, k.Moment, k.State = p.Base, p.Boundary.Moment, catalog.CopyLayingOut
	if k.Plan, err = json.Marshal(p); err != nil {
		return err
	}
	if err := c.Catalog.MoveCopy(ctx, k, replays); err != nil {
		return err
	}
	c.Changed(k.ID)
	k.ReplayedLSN, k.PausedLSN, k.ReplayedTo.Valid, k.Problem = 0, 0, false, ""
	defer func() { c.undo(ctx, cluster, k, err, report) }()
	server := Server(k, cluster.Major())
	if err := c.Host.Stop(ctx, server, host.Immediate); err != nil { // what it has not written will be overwritten
		return err
	}
	trees, err := c.makeDirs(&k)
	if err != nil {
		return err
	}
	defer func() { _ = trees.Close() }()
	report.Log("laying base %s over what is in %s", backup.ID, k.Directory)
	laid, err := c.layOut(ctx, k, backup, trees, true, nil, report)
	if err != nil {
		return err
	}
	report.Log("%s of %s stood there already", figures.Size(laid.Kept), figures.Size(backup.BytesHeld))
	return c.replay(ctx, cluster, k, p, nil, laid.Head, trees, report)
}

// undo removes what there is of a copy that could not be made.
func (c *Maker) undo(ctx context.Context, cluster catalog.Cluster, k catalog.Copy, err error, report task.Report) {
	if err == nil {
		return
	}
	ctx = context.WithoutCancel(ctx)
	k.Problem = err.Error()
	if k.Over {
		if e := c.Drop(ctx, cluster, k); e != nil {
			report.Warn("the copy's server was not ended: %v", e)
		}
		return
	}
	if e := c.Remove(ctx, cluster, k); e != nil {
		report.Warn("what there was of the copy could not be removed: %v", e)
		k.State = catalog.CopyDown
		if e := c.save(ctx, k); e != nil {
			report.Warn("nor that recorded: %v", e)
		}
	}
}

// replay starts a copy that is laid out and follows its recovery to the moment.
func (c *Maker) replay(ctx context.Context, cluster catalog.Cluster, k catalog.Copy, p plan.Restore, part *part, head layout.Head,
	trees restore.Trees, report task.Report) error {
	segments, err := c.feedTail(ctx, cluster, p, trees, report)
	if err == nil {
		err = part.follows(segments)
	}
	if err != nil {
		return err
	}
	ticket := c.ticket(cluster, k, p, part, segments, trees)
	if err := c.configure(cluster, k, p, part, ticket, head, trees); err != nil {
		return err
	}
	end, err := c.ahead(ctx, cluster, k, part, ticket, segments, trees, report)
	if err != nil {
		return err
	}
	defer end()
	k.State = catalog.CopyReplaying
	if err := c.save(ctx, k); err != nil {
		return err
	}
	report.Log("starting the copy on 127.0.0.1, port %d; it replays %d segments (%s to %s) and stops at %s", k.Port, p.Count, p.First,
		p.Last, p.Boundary.Stop)
	if err := c.Host.Start(ctx, Server(k, cluster.Major())); err != nil {
		return err
	}
	return c.follow(ctx, cluster, &k, p, report)
}

func (c *Maker) save(ctx context.Context, k catalog.Copy) error {
	err := c.Catalog.SaveCopy(ctx, k)
	c.Changed(k.ID)
	return err
}

// hasRoom tells whether a base can be laid out where so many bytes are held already.
func (c *Maker) hasRoom(b catalog.Backup, held int64, title string) error {
	free, err := c.Host.FreeSpace(c.Dir)
	if err != nil {
		return err
	}
	// What it holds, not what was read: an incremental backup is laid out whole, too.
	if need := b.BytesHeld + b.BytesHeld/10; free+held < need {
		return problem.New(problem.Full, "Free space there, discard a copy that is no longer needed, or serve with another --copies "+
			"directory.",
			title, "it needs about %s in %s, and %s are free", figures.Size(need-held), c.Dir, figures.Size(free))
	}
	return nil
}

// makeDirs makes a copy's directories, or opens them. What its server logged and was given before
// is about another moment, and goes.
func (c *Maker) makeDirs(k *catalog.Copy) (t restore.Trees, err error) {
	if err := c.Host.MakeClosedDir(k.Directory); err != nil {
		return t, err
	}
	tree, err := c.Host.Files(k.Directory)
	if err != nil {
		return t, err
	}
	defer func() {
		if err != nil {
			_ = tree.Close()
		}
	}()
	t = TreesIn(tree)
	for _, old := range []string{serverLog, feedDir} {
		if err := t.Remove(old); err != nil {
			return t, err
		}
	}
	for _, d := range []string{t.Data, t.Tablespaces, t.Config, feedDir} {
		if err := t.MakeDir(d, 0o700); err != nil {
			return t, err
		}
	}
	k.Socket, err = c.Host.SocketDir(k.Directory)
	return t, err
}

// used is how many bytes a copy takes on disk.
func (c *Maker) used(k catalog.Copy) (int64, error) {
	t, err := c.Host.Files(k.Directory)
	if err != nil {
		return 0, err
	}
	n, err := t.Used()
	return n, errors.Join(err, t.Close())
}

// Remove ends the copy's server and removes its directory.
func (c *Maker) Remove(ctx context.Context, cluster catalog.Cluster, k catalog.Copy) error {
	c, err := c.of(k)
	if err != nil {
		return err
	}
	if err := c.Host.Stop(ctx, Server(k, cluster.Major()), host.Immediate); err != nil {
		return err
	}
	if err := errors.Join(c.Host.DropSocketDir(k.Directory), c.Host.RemoveTree(k.Directory)); err != nil {
		return err
	}
	k.State = catalog.CopyDiscarded
	return c.save(ctx, k)
}

// Refresh notices a copy whose server has gone, or has come back.
func (c *Maker) Refresh(ctx context.Context, cluster catalog.Cluster, k catalog.Copy) (catalog.Copy, error) {
	own, err := c.of(k)
	if err != nil && !errors.Is(err, wire.ErrOutOfReach) {
		k.State, k.Problem = catalog.CopyDown, err.Error()
		return k, nil
	}
	runs := false
	if err == nil {
		runs, _, err = own.Host.Runs(Server(k, cluster.Major()))
	}
	if err != nil {
		k.Problem = "what became of it is not known: " + err.Error()
		return k, nil
	}
	switch {
	case (k.State == catalog.CopyPaused || k.State == catalog.CopyOpen) && !runs:
		k.State, k.Problem = catalog.CopyDown, "its server is not running"
	case k.State == catalog.CopyDown && runs && k.Complete():
		k.State, k.Problem = catalog.CopyPaused, ""
		if conn, err := Connect(ctx, own.Host, k, cluster, "template1"); err == nil {
			var recovering bool
			if conn.QueryRow(ctx, `select pg_catalog.pg_is_in_recovery()`).Scan(&recovering) == nil && !recovering {
				k.State = catalog.CopyOpen
			}
			_ = conn.Close(ctx)
		}
	default:
		return k, nil
	}
	return k, c.save(ctx, k)
}
