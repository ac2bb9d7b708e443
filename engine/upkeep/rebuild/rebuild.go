// Package rebuild makes the catalogue anew from a store alone.
//
// Invariant: a cluster that the catalogue knows is left alone; one that it does not
// know appears with all that the store holds of it, or not at all.
package rebuild

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"velvetrewind/core/figures"
	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/core/wal"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/deposit"
	"velvetrewind/engine/store/vault"
)

// Result is what was recorded again.
type Result struct {
	Clusters []string // names
	Segments int64
	Backups  int64
	Known    []string // clusters that the catalogue knows already, and which were left alone
	Unclear  []string // ids of clusters whose record is missing or damaged
	// Brought is what else the catalogue had deposited in the store.
	Brought map[string]int // rows of policies, calendar, pins, incidents, proofs, tasks, … that were brought back, by table
}

// Rebuilder makes records of what a store holds.
type Rebuilder struct {
	Catalog *catalog.Catalog
	Store   *vault.Vault
	Codec   layout.Codec
}

// Run records every cluster of the store that the catalogue does not know. A cluster
// appears when all of it is recorded, and its capture is wanted then.
func (r *Rebuilder) Run(ctx context.Context, report task.Report) (res Result, err error) {
	ids, err := r.clusters(ctx)
	if err != nil {
		return res, err
	}
	res.Brought = make(map[string]int)
	shared := false
	for _, id := range ids {
		if k, err := r.Catalog.Cluster(ctx, id); err == nil {
			res.Known = append(res.Known, k.Name)
			report.Log("%s is known, and left as it is", k.Name)
			continue
		}
		k, err := deposit.ReadCluster(ctx, r.Store, id)
		if errors.Is(err, store.ErrNotFound) || errors.Is(err, layout.ErrCorrupt) {
			res.Unclear = append(res.Unclear, id)
			report.Warn("cluster %s: its record is missing or damaged (%v); what the store holds of it stays, and cannot be used", id, err)
			continue
		}
		if err != nil {
			return res, err
		}
		if !shared { // policies before what stands on them
			if err := res.bring(r.deposits().BringBackShared(ctx)); err != nil {
				return res, err
			}
			shared = true
		}
		if err := r.cluster(ctx, k, &res, report); err != nil {
			return res, errors.Join(fmt.Errorf("%s: %w", k.Name, err), r.Catalog.ForgetCluster(context.WithoutCancel(ctx), k.ID))
		}
		res.Clusters = append(res.Clusters, k.Name)
	}
	return res, nil
}

// Undo forgets what a rebuild that was interrupted had recorded. It is called when no
// process rebuilds any more.
func Undo(ctx context.Context, c *catalog.Catalog) error {
	half, err := c.HalfAdopted(ctx)
	for _, id := range half {
		err = errors.Join(err, c.ForgetCluster(ctx, id))
	}
	return err
}

// clusters lists the ids of clusters of which the store holds anything.
func (r *Rebuilder) clusters(ctx context.Context) ([]string, error) {
	var ids []string
	err := r.Store.List(ctx, "clusters/", func(i store.Info) error {
		id, _, _ := strings.Cut(strings.TrimPrefix(i.Key, "clusters/"), "/")
		if !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
		return ctx.Err()
	})
	slices.Sort(ids)
	return ids, err
}

func (r *Rebuilder) cluster(ctx context.Context, k catalog.Cluster, res *Result, report task.Report) error {
	rule, err := k.Rule()
	if err != nil {
		return err
	}
	authors, err := k.Authors()
	if err != nil {
		return err
	}
	if err := r.Catalog.AdoptCluster(ctx, k); err != nil {
		return err
	}
	if err := r.Catalog.SetRule(ctx, k.ID, rule); err != nil {
		return err
	}
	if err := r.Catalog.SetAuthors(ctx, k.ID, authors); err != nil {
		return err
	}
	found, err := r.list(ctx, k)
	if err != nil {
		return err
	}
	if err := r.timelines(ctx, k, found.histories); err != nil {
		return err
	}
	names, err := r.segments(ctx, k, found.segments, report)
	if err != nil {
		return err
	}
	if err := r.Catalog.AddRelationNames(ctx, k.ID, names); err != nil {
		return err
	}
	if err := r.gaps(ctx, k); err != nil {
		return err
	}
	backups := int64(0)
	for _, id := range found.backups {
		whole, err := backup.Recover(ctx, r.Store, r.Catalog, k.ID, id)
		if err != nil {
			report.Warn("%s: base %s cannot be read: %v", k.Name, id, err)
			continue
		}
		if whole {
			backups++
		}
	}
	res.Segments, res.Backups = res.Segments+int64(len(found.segments)), res.Backups+backups
	report.Log("%s: %s, %s beside the first, %s", k.Name, figures.Of(len(found.segments), "segment"),
		figures.Of(len(found.histories), "timeline"), figures.Of(int(backups), "base backup"))
	if err := res.bring(r.deposits().BringBackCluster(ctx, k.ID)); err != nil {
		report.Warn("%s: its history is not brought back: %v", k.Name, err)
	}
	return r.Catalog.WantCapture(ctx, k.ID, true)
}

func (r *Rebuilder) deposits() *deposit.Depositor {
	return &deposit.Depositor{Catalog: r.Catalog, Store: r.Store}
}

// bring counts what was brought back.
func (r *Result) bring(rows map[string]int, err error) error {
	for table, n := range rows {
		r.Brought[table] += n
	}
	return err
}

// gaps notes of missing WAL what alone is known of it: why it is not there was in the
// catalogue that was lost.
func (r *Rebuilder) gaps(ctx context.Context, k catalog.Cluster) error {
	runs, err := r.Catalog.Runs(ctx, k.ID)
	if err != nil {
		return err
	}
	for i, next := range runs {
		if i == 0 || runs[i-1].Timeline != next.Timeline {
			continue
		}
		cause := catalog.HoleCause{ClusterID: k.ID, Timeline: next.Timeline, From: runs[i-1].End,
			Cause: "it was not in the store when the catalogue was recorded again"}
		if err := r.Catalog.AddHoleCause(ctx, cause); err != nil {
			return err
		}
	}
	return nil
}

// holding is what the store holds of a cluster, by its keys.
type holding struct {
	segments  map[pg.Segment]int64 // with their stored size
	histories []pg.Timeline
	backups   []string
}

func (r *Rebuilder) list(ctx context.Context, k catalog.Cluster) (h holding, err error) {
	h.segments = make(map[pg.Segment]int64)
	prefix := "clusters/" + k.ID + "/"
	err = r.Store.List(ctx, prefix, func(i store.Info) error {
		parts := strings.Split(strings.TrimPrefix(i.Key, prefix), "/")
		name := parts[len(parts)-1]
		switch {
		case len(parts) == 3 && parts[0] == "wal":
			if seg, err := pg.ParseSegmentName(name, k.SegmentSize); err == nil {
				h.segments[seg] = i.Size
			}
		case len(parts) == 2 && parts[0] == "wal":
			if t, ok := pg.ParseHistoryName(name); ok {
				h.histories = append(h.histories, t)
			}
		case len(parts) == 3 && parts[0] == "bases" && name == "manifest":
			h.backups = append(h.backups, parts[1])
		}
		return ctx.Err()
	})
	slices.Sort(h.histories)
	slices.Sort(h.backups)
	return h, err
}

func (r *Rebuilder) timelines(ctx context.Context, k catalog.Cluster, list []pg.Timeline) error {
	for _, t := range list {
		content, err := r.Store.Get(ctx, store.HistoryKey(k.ID, t))
		if err != nil {
			return err
		}
		forks, err := pg.ParseHistory(t, content)
		if err != nil || len(forks) == 0 {
			return errors.Join(err, fmt.Errorf("the history of timeline %d names no parent", t))
		}
		parent := forks[len(forks)-1]
		if err := r.Catalog.AddTimeline(ctx, catalog.Timeline{ClusterID: k.ID, Timeline: t, Parent: parent.Timeline, ForkedAt: parent.At,
			History: string(content)}); err != nil {
			return err
		}
	}
	return nil
}

// segments records the WAL by what its journal tells, and gathers the names that the
// journal knows.
func (r *Rebuilder) segments(ctx context.Context, k catalog.Cluster, held map[pg.Segment]int64,
	report task.Report) ([]catalog.RelationName, error) {
	timelines, err := r.Catalog.Timelines(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	histories, err := catalog.Histories(timelines)
	if err != nil {
		return nil, err
	}
	x := &changes.Indexes{
		Store: r.Store, Codec: r.Codec, Cluster: k, Histories: histories,
		Names: func(wal.RelationRef) (journal.Name, bool) { return journal.Name{}, false },
		Open: func(ctx context.Context, seg pg.Segment) (io.ReadCloser, error) {
			return r.Store.Segment(ctx, k.ID, seg, k.SegmentSize)
		},
	}
	names := make(map[wal.RelationRef]catalog.RelationName)
	done := int64(0)
	for _, run := range runs(held) {
		next := run.first
		record := func(h *journal.Head) (bool, error) {
			done++
			next = h.Segment.Number + 1
			report.Progress(done, int64(len(held)), task.None, "recording the WAL of "+k.Name)
			gather(names, h)
			return true, r.Catalog.AddSegment(ctx, catalog.Segment{
				ClusterID: k.ID, Timeline: h.Segment.Timeline, Number: h.Segment.Number, Name: h.Segment.Name(k.SegmentSize),
				Start: k.SegmentSize.Start(h.Segment.Number), End: h.End, StoredBytes: held[h.Segment], Records: h.Records,
				LastCommit: sql.NullTime{Time: h.Latest, Valid: h.Commits > 0},
			})
		}
		err := x.Heads(ctx, run.timeline, next, run.last, nil, record)
		for damage := (*wal.Damage)(nil); errors.As(err, &damage) && next <= run.last; {
			if err = r.unreadable(ctx, k, pg.Segment{Timeline: run.timeline, Number: next}, held, damage, report); err == nil &&
				next < run.last {
				next++
				err = x.Heads(ctx, run.timeline, next, run.last, nil, record)
			}
		}
		if err != nil {
			return nil, problem.Wrap(err, problem.Failed, "the WAL could not be recorded",
				"See what is damaged with: velvet store audit --full, on an installation whose catalogue is whole, or move the damaged "+
					"object away.")
		}
	}
	list := make([]catalog.RelationName, 0, len(names))
	for _, n := range names {
		list = append(list, n)
	}
	return list, nil
}

// unreadable records a segment that is there and whose records cannot be read.
func (r *Rebuilder) unreadable(ctx context.Context, k catalog.Cluster, seg pg.Segment, held map[pg.Segment]int64, why *wal.Damage,
	report task.Report) error {
	name, start := seg.Name(k.SegmentSize), k.SegmentSize.Start(seg.Number)
	report.Warn("%s: segment %s cannot be read, and is a hole: %v", k.Name, name, why)
	err := r.Catalog.AddSegment(ctx, catalog.Segment{
		ClusterID: k.ID, Timeline: seg.Timeline, Number: seg.Number, Name: name,
		Start: start, End: k.SegmentSize.Start(seg.Number + 1), StoredBytes: held[seg], Unreadable: why.Error(),
	})
	if err != nil {
		return err
	}
	return r.Catalog.AddHoleCause(ctx, catalog.HoleCause{ClusterID: k.ID, Timeline: seg.Timeline, From: start, Cause: "segment " + name +
		" cannot be read: " + why.Error()})
}

// gather takes over what a segment's tables were called.
func gather(names map[wal.RelationRef]catalog.RelationName, h *journal.Head) {
	for i := range h.Tables {
		t := &h.Tables[i]
		if _, have := names[t.File]; have || !t.Known {
			continue
		}
		names[t.File] = catalog.RelationName{
			Space: t.File.Space, Database: t.File.Database, Filenode: t.File.Filenode, Since: h.Latest,
			OID: t.OID, DBName: t.Database, Schema: t.Schema, Name: t.Table, Part: int16(t.Part), Rows: -1, Above: t.Above,
		}
	}
}

// run is segments of one timeline that follow one another.
type run struct {
	timeline    pg.Timeline
	first, last uint64
}

func runs(held map[pg.Segment]int64) (list []run) {
	all := make([]pg.Segment, 0, len(held))
	for s := range held {
		all = append(all, s)
	}
	slices.SortFunc(all, func(a, b pg.Segment) int {
		if a.Timeline != b.Timeline {
			return int(a.Timeline) - int(b.Timeline)
		}
		return int(int64(a.Number) - int64(b.Number))
	})
	for _, s := range all {
		if n := len(list); n > 0 && list[n-1].timeline == s.Timeline && list[n-1].last+1 == s.Number {
			list[n-1].last = s.Number
			continue
		}
		list = append(list, run{s.Timeline, s.Number, s.Number})
	}
	return list
}
