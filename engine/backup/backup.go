package backup

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/access"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/problem"
	"velvetrewind/engine/replication"
	"velvetrewind/engine/store"
	"velvetrewind/engine/task"
)

// Taker takes base backups of one cluster.
type Taker struct {
	Cluster catalog.Cluster
	Access  access.Access
	Catalog *catalog.Catalog
	Store   store.Store
	Codec   layout.Codec
	Spool   string // directory of all spools
}

// Options choose how a backup is taken.
type Options struct {
	ID     string // of the backup to make
	TaskID string
	Fast   bool // checkpoint at once instead of spread out
}

// Take makes a full base backup. On an error nothing of it is left.
func (t *Taker) Take(ctx context.Context, opt Options, report task.Report) (b catalog.Backup, err error) {
	if err := t.captureRuns(ctx); err != nil {
		return b, err
	}
	defer func() {
		if err != nil {
			undo := context.WithoutCancel(ctx)
			if _, e := store.DeleteAll(undo, t.Store, store.BackupPrefix(t.Cluster.ID, opt.ID)); e != nil {
				report.Warn("what had been written could not be removed: %v", e)
			}
		}
	}()
	b, err = t.take(ctx, opt, report)
	if err != nil {
		return b, explain(err)
	}
	return b, t.Catalog.AddBackup(ctx, b)
}

func explain(err error) error {
	if errors.Is(err, store.ErrFull) {
		return problem.Wrap(err, problem.Full, "the base backup was not taken", "Free or add space, then take it again; nothing of this one was left.")
	}
	p := problem.Wrap(err, problem.Failed, "the base backup was not taken", "Nothing of it was left. See the task's log, mend the cause, and take it again.")
	if p.Detail == err.Error() {
		p.Detail = access.Remedy(err)
	}
	return p
}

// captureRuns refuses early: without capture the WAL that the backup needs would never arrive.
func (t *Taker) captureRuns(ctx context.Context) error {
	k, err := t.Catalog.Capture(ctx, t.Cluster.ID)
	if err != nil {
		return err
	}
	if k.State == catalog.CaptureStreaming {
		return nil
	}
	detail := "its capture is " + k.State
	if k.Problem != "" {
		detail += ": " + k.Problem
	}
	return problem.New(problem.Conflict, "Start it with: velvet capture start "+t.Cluster.Name, "the base backup was not begun",
		"%s, and a base backup is worth nothing without the WAL that follows it", detail)
}

func (t *Taker) take(ctx context.Context, opt Options, report task.Report) (b catalog.Backup, err error) {
	session, err := replication.Open(ctx, t.Access)
	if err != nil {
		return b, err
	}
	defer func() { _ = session.Close(context.WithoutCancel(ctx)) }()
	sys, err := session.Identify(ctx)
	if err != nil {
		return b, err
	}
	if sys.ID != t.Cluster.SystemID {
		return b, fmt.Errorf("the server has system identifier %d, but %s was registered with %d: it is another cluster", sys.ID, t.Cluster.Name, t.Cluster.SystemID)
	}
	report.Progress(0, 0, task.Bytes, "waiting for the server's checkpoint")
	started := time.Now()
	base, err := session.BaseBackup(ctx, replication.BaseBackupOptions{Label: "velvet " + opt.ID, Fast: opt.Fast})
	if err != nil {
		return b, err
	}
	report.Log("backup %s begins at %s on timeline %d; about %d MB in %d tablespaces besides the data directory", opt.ID, base.Start, base.Timeline, base.Size>>20, len(base.Tablespaces))
	w, err := t.newWriter(ctx, opt, base, report)
	if err != nil {
		return b, err
	}
	defer w.abort()
	if err := t.receive(ctx, w, base); err != nil {
		return b, err
	}
	stop, err := base.Finish()
	if err != nil {
		return b, err
	}
	stopped := time.Now()
	report.Log("the server ended the backup at %s; %d files, %d bytes, %d pages read", stop, w.tail.Files, w.tail.BytesRead, w.tail.Pages)
	faults, err := t.judgePages(ctx, w, base.Start, report)
	if err != nil {
		return b, err
	}
	if err := t.awaitWAL(ctx, base.Timeline, base.Start, stop, report); err != nil {
		return b, err
	}
	tail := w.tail
	tail.Timeline, tail.Start, tail.Stop, tail.StartTime, tail.StopTime = base.Timeline, base.Start, stop, started.UTC(), stopped.UTC()
	if err := w.finish(tail); err != nil {
		return b, err
	}
	return Record(w.head, w.tail, opt.TaskID, faults)
}

// Record makes the catalogue's record of a backup from its manifest.
func Record(head layout.Head, tail layout.Tail, taskID string, faults int64) (catalog.Backup, error) {
	spaces, err := json.Marshal(head.Tablespaces)
	if head.Tablespaces == nil {
		spaces = []byte("[]")
	}
	return catalog.Backup{
		ID: head.Backup, ClusterID: head.Cluster, Kind: head.Kind, Timeline: tail.Timeline, Start: tail.Start, Stop: tail.Stop,
		StartedAt: tail.StartTime, StoppedAt: tail.StopTime, Files: tail.Files, BytesRead: tail.BytesRead, BytesStored: tail.BytesStored,
		Pages: tail.Pages, PageFaults: faults, Tablespaces: spaces, TaskID: taskID,
	}, err
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

// awaitWAL waits until every byte of WAL from start to stop is in spool or store.
func (t *Taker) awaitWAL(ctx context.Context, timeline pg.Timeline, start, stop pg.LSN, report task.Report) error {
	report.Progress(0, 0, task.None, fmt.Sprintf("waiting for capture to hold the WAL up to %s", stop))
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	var since time.Time // when capture was first seen not to be running, or to be past us
	for {
		k, err := t.Catalog.Capture(ctx, t.Cluster.ID)
		if err != nil {
			return err
		}
		past := k.Timeline > timeline || k.Timeline == timeline && k.FlushedLSN >= stop
		if past {
			if ok, err := t.holds(ctx, timeline, start, stop); err != nil || ok {
				if ok {
					report.Log("capture holds the WAL from %s to %s", start, stop)
				}
				return err
			}
		}
		switch {
		case !past && k.State != catalog.CaptureStopped && k.State != catalog.CaptureFailed:
			since = time.Time{}
		case since.IsZero():
			since = time.Now()
		case time.Since(since) > patience && past:
			return fmt.Errorf("capture has a hole between %s and %s, which the backup needs", start, stop)
		case time.Since(since) > patience:
			return fmt.Errorf("capture is %s before it holds the WAL up to %s that the backup needs: %s", k.State, stop, k.Problem)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
	}
}

// patience is how long a state that should pass by itself may last.
const patience = 10 * time.Second

func (t *Taker) holds(ctx context.Context, timeline pg.Timeline, start, stop pg.LSN) (bool, error) {
	a, err := archive.Open(ctx, t.Catalog, t.Store, t.Spool, t.Cluster)
	if err != nil {
		return false, err
	}
	return a.Covers(timeline, start, stop), nil
}

// Undo removes what an interrupted backup left, or records it if its manifest is
// in the store already. It is called when no process works on the backup any more.
func Undo(ctx context.Context, s store.Store, c *catalog.Catalog, cluster, id, taskID string) (whole bool, err error) {
	whole, err = recordFrom(ctx, s, c, cluster, id, taskID)
	if err == nil && !whole {
		_, err = store.DeleteAll(ctx, s, store.BackupPrefix(cluster, id))
	}
	return whole, err
}

// Remove takes a backup's content out of the store: the manifest first, so that what
// is cut short is no backup. Again is no error.
func Remove(ctx context.Context, s store.Store, cluster, id string) error {
	if err := s.Delete(ctx, store.ManifestKey(cluster, id)); err != nil {
		return err
	}
	_, err := store.DeleteAll(ctx, s, store.BackupPrefix(cluster, id))
	return err
}

// Recover records a backup by its manifest, for a catalogue that is made anew. whole is
// false if there is no manifest. How many damaged pages were found is not in it.
func Recover(ctx context.Context, s store.Store, c *catalog.Catalog, cluster, id string) (whole bool, err error) {
	return recordFrom(ctx, s, c, cluster, id, "")
}

func recordFrom(ctx context.Context, s store.Store, c *catalog.Catalog, cluster, id, taskID string) (whole bool, err error) {
	head, tail, err := readManifest(ctx, s, cluster, id)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	b, err := Record(head, tail, taskID, 0)
	if err != nil {
		return false, err
	}
	return true, c.AddBackup(ctx, b)
}

func readManifest(ctx context.Context, s store.Store, cluster, id string) (head layout.Head, tail layout.Tail, err error) {
	r, err := s.Open(ctx, store.ManifestKey(cluster, id), 0)
	if err != nil {
		return head, tail, err
	}
	defer func() { _ = r.Close() }()
	tail, err = layout.ReadManifest(r, func(h layout.Head) error { head = h; return nil }, func(layout.File) error { return nil })
	return head, tail, err
}
