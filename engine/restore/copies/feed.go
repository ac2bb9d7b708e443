package copies

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"

	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/task"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/restore/feed"
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

// ticket writes what `velvet segment deliver` needs.
func (c *Maker) ticket(cluster catalog.Cluster, k catalog.Copy, p plan.Restore, part *part, segments []pg.Segment,
	trees restore.Trees) (string, error) {
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
			Control: trees.Path(filepath.Join(dataDir, "global", "pg_control"))}
	}
	b, err := json.MarshalIndent(t, "", "  ")
	if err != nil {
		return "", err
	}
	return trees.Path(ticketFile), put(trees, ticketFile, b)
}
