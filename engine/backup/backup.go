package backup

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"velvetrewind/core/figures"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/server/replication"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/notice"
	"velvetrewind/engine/store/vault"
)

// Taker takes base backups of one cluster.
type Taker struct {
	Cluster catalog.Cluster
	Access  access.Access
	Catalog *catalog.Catalog
	Store   *vault.Vault
	Notices *notice.Board
	Books   *names.Books
	Codec   layout.Codec
	Spool   string // directory of all spools
	// ThroughSQL has changed pages be read through SQL even where the data directory is on this host.
	ThroughSQL bool
	// Away is the host with an agent on which the server was last seen; nil if that is not on one.
	Away func(context.Context, catalog.Cluster) (host.Machine, error)
	Now  func() time.Time // the service's clock
}

// Options choose how a backup is taken.
type Options struct {
	ID     string // of the backup to make
	TaskID string
	Kind   string // layout.Full, layout.Incremental, or Auto
	// Checkpoint is Fast or Spread; "" is Fast for a cluster's first base backup, for which
	// everything waits, and else Spread.
	Checkpoint string
}

// How the server writes the checkpoint with which a base backup begins.
const (
	Fast   = "fast"
	Spread = "spread"
)

// Auto takes an incremental backup where that is surely right, and else a full one.
const Auto = "auto"

// Take makes a base backup. On an error nothing of it is left that anything would read;
// Tidy removes the rest.
func (t *Taker) Take(ctx context.Context, opt Options, report task.Report) (b catalog.Backup, err error) {
	if _, err := pg.ServerVersion(t.Cluster.ServerVersion); err != nil {
		return b, problem.Wrap(err, problem.Conflict, "the base backup was not begun", "Use a version of Velvet Rewind that supports it.")
	}
	if err := t.captureRuns(ctx, report); err != nil {
		return b, err
	}
	lease, err := t.share(ctx, report)
	if err != nil {
		return b, err
	}
	if opt.Checkpoint == "" {
		if opt.Checkpoint, err = t.usualCheckpoint(ctx); err != nil {
			lease.Release()
			return b, err
		}
	}
	w, err := t.take(ctx, opt, report)
	if err == nil {
		if err = w.readBack(ctx); err == nil && !lease.Held(ctx) {
			err = errors.New("lost the connection to the catalogue, and with it the backup lock")
		}
		if err != nil {
			w.abort()
		}
	}
	if err == nil {
		err = w.finish()
	}
	if err == nil {
		b, err = Record(w.head, w.tail, opt.TaskID)
	}
	if err == nil {
		err = t.Catalog.AddBackup(ctx, b)
	}
	lease.Release()
	if err != nil { // what has a manifest is a backup, whatever went wrong after it
		undo := context.WithoutCancel(ctx)
		whole, e := Undo(undo, t.Notices, t.Catalog, t.Cluster.ID, opt.ID, opt.TaskID)
		if e != nil {
			report.Warn("what had been written could not be removed yet: %v", e)
		}
		if whole {
			return t.Catalog.Backup(undo, opt.ID)
		}
		return b, explain(err)
	}
	return b, nil
}

// usualCheckpoint is what is asked for where nobody has chosen.
func (t *Taker) usualCheckpoint(ctx context.Context) (string, error) {
	list, err := t.Catalog.Backups(ctx, t.Cluster.ID)
	if err == nil && len(list) == 0 {
		return Fast, nil
	}
	return Spread, err
}

// pollEvery is how often it is looked whether what is waited for is there.
const pollEvery = 200 * time.Millisecond

// share waits for the right to add to the cluster's backups.
func (t *Taker) share(ctx context.Context, report task.Report) (*catalog.Lease, error) {
	for since := time.Now(); ; {
		lease, ok, err := t.Catalog.ShareContent(ctx, t.Cluster.ID)
		if err != nil || ok {
			return lease, err
		}
		report.Progress(0, 0, task.None, task.Waiting("the space of dropped backups to be freed", since, "some seconds to minutes"))
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(pollEvery):
		}
	}
}

func explain(err error) error {
	if errors.Is(err, store.ErrFull) {
		return problem.Wrap(err, problem.Full, "the base backup was not taken",
			"Free or add space, then take it again; nothing of this one was left.")
	}
	p := problem.Wrap(err, problem.Failed, "the base backup was not taken",
		"What there was of it has been removed. See the task's log, fix the cause, and take it again.")
	if p.Detail == err.Error() {
		p.Detail = access.Remedy(err)
	}
	return p
}

// captureWait is how long a capture that tries by itself is given to stream again.
const captureWait = 30 * time.Second

// captureRuns refuses early: without capture the WAL that the backup needs would never
// arrive. A capture that was only interrupted is waited for.
func (t *Taker) captureRuns(ctx context.Context, report task.Report) error {
	for since := time.Now(); ; {
		k, err := t.Catalog.Capture(ctx, t.Cluster.ID)
		if err != nil {
			return err
		}
		if k.Receives() {
			return nil
		}
		comes := k.Wanted && (k.State == catalog.CaptureStarting || k.State == catalog.CaptureRetrying)
		if comes && time.Since(since) < captureWait {
			report.Progress(0, 0, task.None, task.Waiting("capture to stream; it is "+k.State, since,
				fmt.Sprintf("a few seconds, at most %s", captureWait)))
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(pollEvery):
			}
			continue
		}
		detail := "its capture is " + k.State
		if k.Problem != "" {
			detail += ": " + k.Problem
		}
		return problem.New(problem.Conflict, "Start it with: velvet capture start "+t.Cluster.Name, "the base backup was not begun",
			"%s, and a base backup is worth nothing without the WAL that follows it", detail)
	}
}

// take reads everything; what it returns only has to be finished.
func (t *Taker) take(ctx context.Context, opt Options, report task.Report) (*writer, error) {
	doubts, err := t.askFacts(ctx, report)
	if err != nil {
		return nil, err
	}
	old, err := t.former(ctx, report)
	if err != nil {
		return nil, err
	}
	defer old.close()
	switch {
	case opt.Kind == layout.Full:
	case old == nil:
		report.Log("a full backup is taken: there is none to compare with")
	default:
		var w *writer
		if err = cmp.Or(doubts, t.likeFormer(old)); err == nil {
			w, err = t.incremental(ctx, opt, old, report)
		}
		var why doubt
		if !errors.As(err, &why) {
			return w, err
		}
		report.Warn("a full backup is taken instead of an incremental one: %v", why.error)
	}
	return t.full(ctx, opt, old, report)
}

// former opens the newest backup whose manifest can be read and of which no audit found
// anything damaged, for that would be shared; nil if there is none.
func (t *Taker) former(ctx context.Context, report task.Report) (*former, error) {
	list, err := t.Catalog.Backups(ctx, t.Cluster.ID)
	if err != nil {
		return nil, err
	}
	lost, err := t.Catalog.Losses(ctx, t.Cluster.ID)
	if err != nil {
		return nil, err
	}
	for _, b := range list {
		if slices.Contains(lost.Backups, b.ID) {
			report.Warn("base %s is not compared with: an audit found that it cannot be read", b.ID)
			continue
		}
		old, err := openFormer(ctx, t.Store, t.Cluster.ID, b.ID, t.Spool)
		if err == nil {
			return old, nil
		}
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		report.Warn("base %s cannot be compared with: %v", b.ID, err)
	}
	return nil, nil
}

// full takes a backup that reads everything.
func (t *Taker) full(ctx context.Context, opt Options, old *former, report task.Report) (*writer, error) {
	session, err := replication.Open(ctx, t.Access)
	if err != nil {
		return nil, err
	}
	defer func() { _ = session.Close(context.WithoutCancel(ctx)) }()
	sys, err := session.Identify(ctx)
	if err != nil {
		return nil, err
	}
	if sys.ID != t.Cluster.SystemID {
		return nil, fmt.Errorf("the server has system identifier %d, but %s was registered with %d: it is another cluster", sys.ID,
			t.Cluster.Name, t.Cluster.SystemID)
	}
	t.awaitCheckpoint(ctx, opt, report)
	started, err := t.askNow(ctx)
	if err != nil {
		return nil, err
	}
	base, err := session.BaseBackup(ctx, replication.BaseBackupOptions{Label: "velvet " + opt.ID, Fast: opt.Checkpoint == Fast})
	if err != nil {
		return nil, err
	}
	report.Log("backup %s begins at %s on timeline %d; about %s, %s besides the data directory", opt.ID, base.Start, base.Timeline,
		figures.Size(base.Size), figures.Of(len(base.Tablespaces), "tablespace"))
	var spaces []layout.TablespaceEntry
	for _, s := range base.Tablespaces {
		spaces = append(spaces, layout.TablespaceEntry{OID: s.OID, Location: s.Location})
	}
	w, err := t.newWriter(ctx, opt, layout.Full, spaces, old, report)
	if err != nil {
		return nil, err
	}
	w.size = base.Size
	var stop pg.LSN
	if err = t.receive(ctx, w, base); err == nil {
		stop, err = base.Finish()
	}
	if err == nil {
		report.Log("the server ended the backup at %s; %d files, %d bytes, %d pages read", stop, w.tail.Files,
			w.tail.BytesRead, w.tail.Pages)
		w.tail.Timeline, w.tail.Start, w.tail.Stop, w.tail.StartTime = base.Timeline, base.Start, stop, started
		w.tail.StopTime, err = t.askNow(ctx)
	}
	if err == nil {
		err = t.awaitWAL(ctx, base.Timeline, base.Start, stop, report)
	}
	if err == nil {
		err = t.judge(ctx, w)
	}
	if err != nil {
		w.abort()
		return nil, err
	}
	return w, nil
}

// awaitCheckpoint says how long the server's checkpoint may take, which comes first.
func (t *Taker) awaitCheckpoint(ctx context.Context, opt Options, report task.Report) {
	what, usually := "the server's fast checkpoint", "some seconds"
	if opt.Checkpoint != Fast {
		what, usually = "the server's spread checkpoint", "a few minutes; --checkpoint fast shortens it"
		var longest float64 // seconds
		conn, err := t.Access.SQL(ctx, "")
		if err == nil {
			err = conn.QueryRow(ctx, `select pg_catalog.current_setting('checkpoint_completion_target')::pg_catalog.float8
				operator(pg_catalog.*) setting::pg_catalog.float8 from pg_catalog.pg_settings where name
				operator(pg_catalog.=) 'checkpoint_timeout'`).Scan(&longest)
			_ = conn.Close(ctx)
		}
		if err == nil {
			usually = fmt.Sprintf("up to %s; --checkpoint fast shortens it", time.Duration(longest)*time.Second)
		}
	}
	report.Progress(0, 0, task.Bytes, task.Waiting(what, time.Now(), usually))
}

// judge reads suspect pages once more through SQL.
func (t *Taker) judge(ctx context.Context, w *writer) error {
	if len(w.suspects) == 0 {
		return w.judgePages(ctx, nil)
	}
	conn, err := t.Access.SQL(ctx, "")
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	return w.judgePages(ctx, rereadFrom(sqlSource{conn}))
}

// Record makes the catalogue's record of a backup from its manifest.
func Record(head layout.Head, tail layout.Tail, taskID string) (catalog.Backup, error) {
	spaces, err := json.Marshal(head.Tablespaces)
	if head.Tablespaces == nil {
		spaces = []byte("[]")
	}
	damaged, e := json.Marshal(tail.Damaged)
	if tail.Damaged == nil {
		damaged = nil
	}
	return catalog.Backup{
		ID: head.Backup, ClusterID: head.Cluster, Kind: head.Kind, Timeline: tail.Timeline, Start: tail.Start, Stop: tail.Stop,
		StartedAt: tail.StartTime, StoppedAt: tail.StopTime, Files: tail.Files, BytesRead: tail.BytesRead, BytesStored: tail.BytesStored,
		Pages: tail.Pages, PageFaults: tail.PageFaults, Tablespaces: spaces, TaskID: taskID, Beside: head.Beside,
		BytesHeld: tail.BytesHeld, BytesShared: tail.BytesShared, Extents: tail.Extents, NewExtents: tail.NewExtents,
		ZeroExtents: tail.ZeroExtents, Damaged: damaged,
	}, errors.Join(err, e)
}

// receive reads all archives, the configuration files, and the server's manifest, and compares.
func (t *Taker) receive(ctx context.Context, w *writer, base *replication.BaseBackup) error {
	for {
		a, err := base.NextArchive()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if err := w.archive(a); err != nil {
			return err
		}
	}
	if err := w.compare(base.Manifest(), base); err != nil {
		return err
	}
	if err := t.saveConfiguration(ctx, w); err != nil {
		return err
	}
	return w.drain()
}

// awaitWAL waits until every byte of WAL from start to stop is safe in spool or store.
func (t *Taker) awaitWAL(ctx context.Context, timeline pg.Timeline, start, stop pg.LSN, report task.Report) error {
	report.Progress(0, 0, task.None, task.Waiting(fmt.Sprintf("capture to hold the WAL up to %s", stop), time.Now(), "a second or two"))
	tick := time.NewTicker(25 * time.Millisecond)
	defer tick.Stop()
	w := wait{timeline: timeline, start: start, stop: stop}
	for {
		done, err := t.look(ctx, &w)
		if done {
			report.Log("capture holds the WAL from %s to %s", start, stop)
		}
		if done || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
	}
}

// wait is for the WAL from start to stop.
type wait struct {
	timeline    pg.Timeline
	start, stop pg.LSN
	since       time.Time // when that which should pass by itself was first seen
	stored      pg.LSN    // how far the store's WAL went then
}

// look tells whether the WAL is safe where this instance can read it. It is an error where it will not be.
func (t *Taker) look(ctx context.Context, w *wait) (done bool, err error) {
	here, err := spool.Reached(t.Spool, t.Cluster, w.timeline, w.stop)
	if err != nil {
		return false, err
	}
	k, err := t.Catalog.Capture(ctx, t.Cluster.ID)
	if err != nil {
		return false, err
	}
	elsewhere := !here && k.Timeline == w.timeline && k.FlushedLSN >= w.stop // or in the store
	past := here || elsewhere || k.Timeline > w.timeline
	if past {
		if done, err = t.holds(ctx, w.timeline, w.start, w.stop); err != nil || done {
			return done, err
		}
	}
	shared := true
	if elsewhere {
		if shared, err = t.Catalog.StoredTo(ctx, t.Cluster, w.timeline, w.stop); err == nil && !shared {
			err = t.Catalog.AskStored(ctx, t.Cluster.ID, w.stop)
		}
		if err != nil {
			return false, err
		}
	}
	return false, w.judge(k, past, shared)
}

// patience is how long a state that should pass by itself may last.
const patience = 10 * time.Second

// judge tells that waiting is in vain.
func (w *wait) judge(k catalog.Capture, past, shared bool) error {
	switch {
	case !past && k.State != catalog.CaptureStopped && k.State != catalog.CaptureFailed:
		w.since = time.Time{}
	case w.since.IsZero() || !shared && k.StoredLSN > w.stored:
		w.since, w.stored = time.Now(), k.StoredLSN
	case time.Since(w.since) <= patience:
	case !past:
		return fmt.Errorf("capture is %s before it holds the WAL up to %s that the backup needs: %s", k.State, w.stop, k.Problem)
	case !shared:
		return fmt.Errorf("instance %d captures this cluster, and did not put the WAL up to %s, which the backup needs, into the store "+
			"when it was asked", k.Holder, w.stop)
	default:
		return fmt.Errorf("capture has a hole between %s and %s, which the backup needs", w.start, w.stop)
	}
	return nil
}

func (t *Taker) holds(ctx context.Context, timeline pg.Timeline, start, stop pg.LSN) (bool, error) {
	a, err := archive.Open(ctx, t.Catalog, t.Store, t.Spool, t.Cluster)
	if err != nil {
		return false, err
	}
	return a.Covers(timeline, start, stop), nil
}
