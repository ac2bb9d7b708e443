// Package audit looks through a store: whether everything that the catalogue and the
// backups' own manifests name is there, and, when asked, whether every byte of it can
// be read.
//
// Invariant: it changes nothing in a store unless it is asked to fix it; what is then
// missing or damaged in one store is copied from the other, verified on the way.
// What cannot be read is noted in the catalogue: nothing is planned through it from then
// on, and no rule counts on it, until an audit reads every byte and finds otherwise.
package audit

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"time"

	"velvetrewind/core/inventory"
	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/reach"
	"velvetrewind/core/task"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// Auditor looks through a store.
type Auditor struct {
	Catalog *catalog.Catalog
	Store   *vault.Vault
	Spool   string
	Full    bool // read every byte, not only what is there
	Fix     bool // bring back from the second store what the first lacks or has damaged, and the other way round
}

// Result is what was found.
type Result struct {
	Full     bool
	Objects  int64
	Bytes    int64
	Findings []inventory.Discrepancy
	Losses   []Loss // what cannot be restored because of them
	Second   string // name of the second store
	Behind   int64  // objects that the second store does not have yet
}

// Loss is what a cluster has lost.
type Loss struct {
	Cluster string                // name
	Backups []string              // base backups that cannot be restored
	Reach   []inventory.LostReach // moments that could be reached and cannot any more
}

// mostFindings is how many findings a report names.
const mostFindings = 1000

// Run looks through the store.
func (a *Auditor) Run(ctx context.Context, report task.Report) (r Result, err error) {
	r.Full = a.Full
	if err := a.ownRecord(ctx, report); err != nil {
		return r, err
	}
	clusters, err := a.Catalog.Clusters(ctx)
	if err != nil {
		return r, err
	}
	ids := make([]string, len(clusters))
	for i, k := range clusters {
		ids[i] = k.ID
	}
	books := inventory.NewBooks(ids)
	for _, k := range clusters {
		if err := a.want(ctx, books, k); err != nil {
			return r, fmt.Errorf("what %s should have: %w", k.Name, err)
		}
	}
	if err := a.wantShared(ctx, books); err != nil {
		return r, err
	}
	here, err := a.list(ctx, a.Store.First(), func(key, cluster string, size int64) {
		r.Objects++
		r.Bytes += size
		books.See(key, cluster)
	})
	if err != nil {
		return r, err
	}
	if err := a.settle(ctx, books, here); err != nil {
		return r, err
	}
	report.Log("%d objects are there, %d are named by the catalogue and the backups", r.Objects, len(books.Wanted()))
	bad := books.Missing()
	if a.Full {
		err := a.readAll(ctx, a.Store.First(), books.Wanted(), here, r.Bytes, report, func(key string, err error) {
			books.Lost(key, err.Error())
			bad = append(bad, key)
		})
		if err != nil {
			return r, err
		}
	}
	if err := a.seekElsewhere(ctx, books, here, bad, report); err != nil {
		return r, err
	}
	findings, lost := books.Close()
	r.Findings = append([]inventory.Discrepancy{}, findings[:min(len(findings), mostFindings)]...)
	if err := a.second(ctx, books, &r, report); err != nil {
		return r, err
	}
	if r.Losses, err = a.losses(ctx, clusters, lost); err != nil {
		return r, err
	}
	for _, k := range clusters {
		if err := a.Catalog.NoteLosses(ctx, k.ID, lost[k.ID], a.Full); err != nil {
			return r, fmt.Errorf("note what %s has lost: %w", k.Name, err)
		}
	}
	for _, f := range r.Findings {
		if f.Costs {
			report.Warn("%s: %s %s", f.Kind, f.Key, f.Detail)
		}
	}
	return r, nil
}

// ownRecord makes sure that the store is the one that it is taken for, and that both copies of its record are whole.
func (a *Auditor) ownRecord(ctx context.Context, report task.Report) error {
	if _, err := a.Store.Stat(ctx, store.NameKey); errors.Is(err, store.ErrNotFound) {
		return problem.New(problem.Failed, "See whether its disk is mounted.", "the store was not audited",
			"%s does not hold the store's own record: something else is in its place", a.Store)
	} else if err != nil {
		return err
	}
	repaired, err := a.Store.RepairRecords(ctx)
	for _, what := range repaired {
		report.Warn("the store's own record was written again from its other copy: %s", what)
	}
	if err != nil {
		return fmt.Errorf("the store's own record: %w", err)
	}
	return nil
}

// settle looks once more at what did not fit: backups end and begin, segments come and are
// deleted while a large store is looked through.
func (a *Auditor) settle(ctx context.Context, books *inventory.Books, here map[string]string) error {
	concerned := make(map[string]bool)
	for _, key := range books.Unclear() {
		concerned[store.ClusterOf(key)] = true
	}
	if len(concerned) == 0 {
		return nil
	}
	removed, err := a.Catalog.RemovedClusters(ctx)
	if err != nil {
		return err
	}
	// In this order: a backup that has ended by now is found by its manifest.
	running, err := a.Catalog.Tasks(ctx, catalog.TaskFilter{Kind: "backup", Active: true, Limit: 10_000})
	if err != nil {
		return err
	}
	clusters, err := a.Catalog.Clusters(ctx)
	if err != nil {
		return err
	}
	now, known := inventory.NewBooks(nil), make(map[string]busy)
	if err := a.wantShared(ctx, now); err != nil {
		return err
	}
	for _, k := range clusters {
		if !concerned[k.ID] {
			continue
		}
		c, err := a.Catalog.Capture(ctx, k.ID) // before the segments that it has recorded
		if err != nil {
			return err
		}
		known[k.ID] = busy{tidying: k.TidyDue, size: k.SegmentSize, timeline: c.Timeline, stored: c.StoredLSN}
		if err := a.want(ctx, now, k); err != nil {
			return fmt.Errorf("what %s should have: %w", k.Name, err)
		}
	}
	return books.Settle(now, func(key string) (bool, error) {
		cluster := store.ClusterOf(key)
		if slices.ContainsFunc(removed, func(r catalog.Removed) bool { return r.ID == cluster }) {
			return true, nil // waits to be deleted
		}
		if b, ok := known[cluster]; ok && (b.tidying || b.arriving(key)) {
			return true, nil
		}
		if slices.ContainsFunc(running, func(t catalog.Task) bool { return store.OfBackup(cluster, key, t.Subject) }) {
			return true, nil
		}
		_, err := a.Store.Stat(ctx, here[key])
		if errors.Is(err, store.ErrNotFound) {
			return true, nil // removed since
		}
		return false, err
	})
}

// busy is what is done to a cluster's part of the store.
type busy struct {
	tidying  bool // what nothing needs is being removed, or waits for that
	size     pg.SegmentSize
	timeline pg.Timeline // that is captured
	stored   pg.LSN      // segments from here on are put into the store before they are recorded
}

// arriving tells whether an object is a segment, or its index, that will be recorded.
func (b busy) arriving(key string) bool {
	seg, err := pg.ParseSegmentName(path.Base(key), b.size)
	return err == nil && seg.Timeline == b.timeline && b.size.Start(seg.Number) >= b.stored
}

// want names what the store should hold of a cluster.
func (a *Auditor) want(ctx context.Context, books *inventory.Books, k catalog.Cluster) error {
	segments, err := a.Catalog.Segments(ctx, k.ID)
	if err != nil {
		return err
	}
	books.Want(inventory.Object{Key: store.RecordKey(k.ID), Cluster: k.ID, Remade: true})
	chapters := make(map[string]bool)
	var newest time.Time         // commit in the WAL that leads to the segment
	for i, s := range segments { // in order
		if i == 0 || segments[i-1].Timeline != s.Timeline || segments[i-1].Number+1 != s.Number {
			newest = time.Time{}
		}
		seg := inventory.LostSegment{Segment: pg.Segment{Timeline: s.Timeline, Number: s.Number}, Before: newest}
		if s.LastCommit.Time.After(newest) {
			newest = s.LastCommit.Time.UTC()
		}
		books.Want(inventory.Object{Key: store.SegmentKey(k.ID, s.Timeline, s.Name), Cluster: k.ID, Segment: seg})
		index := inventory.Object{Key: store.IndexKey(k.ID, s.Timeline, s.Name), Cluster: k.ID, Segment: seg, Remade: true}
		switch {
		case s.Unreadable != "":
		case s.Records > 0:
			books.Want(index)
		default: // not read yet, or the middle of a long record
			if err := a.wantIfThere(ctx, books, index); err != nil {
				return err
			}
		}
		chapters[store.ChapterKey(k.ID, s.Timeline, s.Number/journal.ChapterSize)] = true
	}
	maybe := []string{store.DepositKey(k.ID), store.NoticeKey(k.ID, "packs"), store.NoticeKey(k.ID, "wal"), store.NoticeKey(k.ID, "all")}
	for _, key := range slices.AppendSeq(maybe, maps.Keys(chapters)) { // may be there
		if err := a.wantIfThere(ctx, books, inventory.Object{Key: key, Cluster: k.ID, Remade: true}); err != nil {
			return err
		}
	}
	if err := a.wantBelow(ctx, books, store.AuthorsPrefix(k.ID), k.ID); err != nil {
		return err
	}
	timelines, err := a.Catalog.Timelines(ctx, k.ID)
	if err != nil {
		return err
	}
	for _, t := range timelines {
		books.Want(inventory.Object{Key: store.HistoryKey(k.ID, t.Timeline), Cluster: k.ID,
			Segment: inventory.LostSegment{Segment: pg.Segment{Timeline: t.Timeline}}})
	}
	backups, err := a.Catalog.Backups(ctx, k.ID)
	if err != nil {
		return err
	}
	for _, b := range backups {
		if err := a.wantBackup(ctx, books, k, b.ID); err != nil {
			return err
		}
	}
	return nil
}

// wantShared names what is of no cluster: of what the first store has lost only the second knows.
func (a *Auditor) wantShared(ctx context.Context, books *inventory.Books) error {
	for _, prefix := range []string{store.SharedDepositKey(""), store.EpochKey("")} {
		if err := a.wantBelow(ctx, books, prefix, ""); err != nil {
			return err
		}
	}
	return nil
}

// wantBelow names all that is below a prefix in either store.
func (a *Auditor) wantBelow(ctx context.Context, books *inventory.Books, prefix, cluster string) error {
	want := func(i store.Info) error {
		books.Want(inventory.Object{Key: i.Key, Cluster: cluster, Remade: true})
		return ctx.Err()
	}
	if err := a.Store.List(ctx, prefix, want); err != nil {
		return err
	}
	if second := a.Store.Second(); second != nil {
		if err := second.List(ctx, prefix, want); err != nil {
			return fmt.Errorf("the second store: %w", err)
		}
	}
	return nil
}

// wantIfThere names an object that may be there.
func (a *Auditor) wantIfThere(ctx context.Context, books *inventory.Books, o inventory.Object) error {
	_, err := a.Store.Stat(ctx, o.Key)
	if err == nil {
		books.Want(o)
	} else if errors.Is(err, store.ErrNotFound) {
		err = nil
	}
	return err
}

// wantBackup names the manifest and the packs of a base backup.
func (a *Auditor) wantBackup(ctx context.Context, books *inventory.Books, k catalog.Cluster, id string) error {
	key := store.ManifestKey(k.ID, id)
	books.Want(inventory.Object{Key: key, Cluster: k.ID, Backups: []string{id}})
	err := a.Store.List(ctx, store.ReportPrefix(k.ID, id), func(i store.Info) error {
		books.Want(inventory.Object{Key: i.Key, Cluster: k.ID, Remade: true})
		return nil
	})
	if err != nil {
		return err
	}
	_, err = backup.ReadManifest(ctx, a.Store, k.ID, id, layout.Visit{Pack: func(u layout.Use) error {
		books.Want(inventory.Object{Key: store.PackKey(k.ID, u.Pack, 0), Cluster: k.ID, Backups: []string{id}})
		return ctx.Err()
	}})
	if errors.Is(err, layout.ErrCorrupt) {
		books.Lost(key, err.Error())
		return nil
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil // found missing later
	}
	return err
}

// list sees what a store holds. Packs are known by their first generation's name; here
// maps that to what is there.
func (a *Auditor) list(ctx context.Context, s store.Store, see func(key, cluster string, size int64)) (here map[string]string, err error) {
	here = make(map[string]string)
	generations := make(map[string]uint32)
	err = s.List(ctx, "", func(i store.Info) error {
		cluster := store.ClusterOf(i.Key)
		key := i.Key
		if id, g, ok := store.ParsePackKey(cluster, i.Key); ok {
			key = store.PackKey(cluster, id, 0)
			if before, ok := generations[key]; ok && before > g {
				return nil // left by a condensing that was cut short; it goes when the store is tidied
			}
			generations[key] = g
		}
		if i.Key != store.NameKey && i.Key != store.SpareKey {
			here[key] = i.Key
			see(key, cluster, i.Size)
		}
		return ctx.Err()
	})
	return here, err
}

// readAll reads every object that should be in a store, to its end.
func (a *Auditor) readAll(ctx context.Context, s store.Store, keys []string, here map[string]string, total int64, report task.Report,
	damaged func(key string, err error)) error {
	var done int64
	for _, key := range keys {
		actual, ok := here[key]
		if !ok {
			continue // found missing later
		}
		n, err := a.Store.Verify(ctx, s, actual)
		done += n
		report.Progress(done, total, task.Bytes, key)
		switch {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case errors.Is(err, store.ErrNotFound):
		case errors.Is(err, layout.ErrCorrupt):
			damaged(key, err)
		case err != nil:
			return err
		}
	}
	return nil
}

// seekElsewhere looks in the second store for what the first lacks or has damaged, and
// brings it back if that is wanted.
func (a *Auditor) seekElsewhere(ctx context.Context, books *inventory.Books, here map[string]string, bad []string,
	report task.Report) error {
	second := a.Store.Second()
	if second == nil || len(bad) == 0 {
		return nil
	}
	there, err := a.list(ctx, second, func(string, string, int64) {})
	if err != nil {
		return fmt.Errorf("the second store: %w", err)
	}
	for _, key := range bad {
		actual, ok := there[key]
		if !ok {
			continue
		}
		if !a.Fix {
			if _, err := a.Store.Verify(ctx, second, actual); err == nil {
				books.Elsewhere(key, false)
			}
			continue
		}
		if err := a.Store.Copy(ctx, actual, second, a.Store.First()); err != nil {
			report.Warn("%s could not be brought back from the second store: %v", key, err)
			continue
		}
		if old := here[key]; old != "" && old != actual {
			if err := a.Store.First().Delete(ctx, old); err != nil {
				return err
			}
		}
		report.Log("%s was brought back from the second store", key)
		books.Elsewhere(key, true)
	}
	return nil
}

// second looks through the second store: how much is still to be copied, and, when
// every byte is read, what is damaged there, which the first may fix.
func (a *Auditor) second(ctx context.Context, books *inventory.Books, r *Result, report task.Report) error {
	second := a.Store.Second()
	if second == nil {
		return nil
	}
	r.Second = second.String()
	var bytes int64
	there, err := a.list(ctx, second, func(_, _ string, size int64) { bytes += size })
	if err != nil {
		return fmt.Errorf("the second store: %w", err)
	}
	for _, key := range books.Wanted() {
		if _, ok := there[key]; !ok {
			r.Behind++
		}
	}
	if !a.Full {
		return nil
	}
	return a.readAll(ctx, second, books.Wanted(), there, bytes, report, func(key string, err error) {
		f := inventory.Discrepancy{Kind: inventory.Damaged, Key: key, Detail: "in the second store: " + err.Error()}
		if a.Fix {
			if e := a.Store.Copy(ctx, there[key], a.Store.First(), second); e != nil {
				report.Warn("%s is damaged in the second store, and could not be brought there again: %v", key, e)
			} else {
				f.Fixed = true
			}
		}
		r.Findings = append(r.Findings, f)
	})
}

// losses computes the reach of each cluster with what was lost and without it.
func (a *Auditor) losses(ctx context.Context, clusters []catalog.Cluster, lost map[string]inventory.Losses) ([]Loss, error) {
	list := []Loss{}
	for _, k := range clusters {
		l, ok := lost[k.ID]
		if !ok {
			continue
		}
		ar, err := archive.Open(ctx, a.Catalog, a.Store, a.Spool, k)
		if err != nil {
			return nil, err
		}
		bases, wal, forks := ar.Recorded()
		before, _ := reach.Compute(bases, wal, forks)
		bases, wal = l.Without(bases, wal, k.SegmentSize)
		after, _ := reach.Compute(bases, wal, forks)
		loss := Loss{Cluster: k.Name, Backups: append([]string{}, l.Backups...),
			Reach: append([]inventory.LostReach{}, inventory.Difference(before, after)...)}
		list = append(list, loss)
	}
	return list, nil
}
