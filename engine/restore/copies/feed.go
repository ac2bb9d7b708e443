package copies

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"

	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/task"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/restore/feed"
	"velvetrewind/engine/store"
)

// feedTail puts segments that are not in the store yet beside the copy. It returns
// all segments that the copy will replay.
func (c *Maker) feedTail(ctx context.Context, cluster catalog.Cluster, p plan.Restore, t restore.Trees,
	report task.Report) ([]pg.Segment, error) {
	a, err := archive.Open(ctx, c.Catalog, c.Store, c.Spool, cluster)
	if err != nil {
		return nil, err
	}
	if a, err = a.On(p.Boundary.Timeline); err != nil {
		return nil, err
	}
	segments := p.Segments(a.Ancestors, cluster.SegmentSize)
	for _, tail := range a.Spooled(segments) {
		name := tail.Segment.Name(cluster.SegmentSize)
		if err := feedOne(ctx, a, tail.Segment, t, filepath.Join(feedDir, name)); err != nil {
			return nil, fmt.Errorf("segment %s from the spool: %w", name, err)
		}
		report.Log("segment %s is not in the store yet; the copy gets what is in the spool, up to %s", name, tail.End)
	}
	return segments, nil
}

func feedOne(ctx context.Context, a *archive.Archive, s pg.Segment, t restore.Trees, to string) error {
	src, err := a.OpenSegment(ctx, s)
	if err != nil {
		return err
	}
	defer func() { _ = src.Close() }()
	f, err := t.Create(to, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, src)
	return errors.Join(err, f.Close())
}

var controlFile = filepath.Join(dataDir, "global", "pg_control")

// ticket is what `velvet segment deliver` needs.
func (c *Maker) ticket(cluster catalog.Cluster, k catalog.Copy, p plan.Restore, part *part, segments []pg.Segment,
	trees restore.Trees) feed.Ticket {
	first, last := segments[0], segments[len(segments)-1]
	t := feed.Ticket{
		Copy: k.ID, Cluster: cluster.ID, Service: c.Service, Certificate: c.Certificate, Authority: c.Authority,
		Token: feed.Token(c.Key, k.ID),
		Store: c.Place.For(c.Store, cluster.ID),
		Feed:  trees.Path(feedDir), Size: cluster.SegmentSize, Needed: last.Number, Timeline: last.Timeline, Unflushed: true,
	}
	if part != nil {
		t.Part = &feed.Part{Lacks: trees.Path(lacksFile), SystemID: cluster.SystemID, First: first.Number,
			Keep:    []pg.LSN{p.Start, p.Boundary.Stop, p.Boundary.End},
			Control: trees.Path(controlFile)}
	}
	return t
}

// ahead makes segments ready while the copy replays, until the function that it gives is called. A copy on a host with an agent goes
// without: there each segment is fetched when it is asked for.
func (c *Maker) ahead(ctx context.Context, cluster catalog.Cluster, k catalog.Copy, part *part, t feed.Ticket, segments []pg.Segment,
	trees restore.Trees, report task.Report) (end func(), err error) {
	if k.Host != "" {
		return func() {}, nil
	}
	a := &feed.Ahead{Ticket: t, Files: trees, Feed: feedDir, Segments: segments,
		Open: func(ctx context.Context, name string) (io.ReadCloser, error) {
			if f, err := trees.Open(filepath.Join(feedDir, name)); !errors.Is(err, fs.ErrNotExist) {
				return f, err
			}
			content, err := feed.Open(ctx, c.Store, cluster, name)
			if errors.Is(err, store.ErrNotFound) {
				err = feed.ErrNoSuchSegment
			}
			return content, err
		}}
	if part != nil {
		a.Lacks, a.Control = part.lacks, controlFile
	}
	if err := a.Prepare(); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		if err := a.Run(ctx); err != nil && ctx.Err() == nil {
			report.Log("no more segments are made ready before the copy asks for them: %v", err)
		}
	}()
	return func() { cancel(); <-done }, nil
}
