// Package audit looks through a store: whether everything that the catalogue and the
// backups' own manifests name is there, and, when asked, whether every byte of it can
// be read.
//
// Invariant: it changes nothing in the store.
package audit

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"velvetrewind/core/audit"
	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/task"
)

// Auditor looks through a store.
type Auditor struct {
	Catalog *catalog.Catalog
	Store   store.Store
	Spool   string
	Full    bool // read every byte, not only what is there
}

// Result is what was found.
type Result struct {
	Full     bool                `json:"full"`
	Objects  int64               `json:"objects"`
	Bytes    int64               `json:"bytes"`
	Findings []audit.Discrepancy `json:"findings"`
	Losses   []Loss              `json:"losses" doc:"what cannot be restored because of them"`
}

// Loss is what a cluster has lost.
type Loss struct {
	Cluster string            `json:"cluster" doc:"name"`
	Backups []string          `json:"backups" doc:"base backups that cannot be restored"`
	Reach   []audit.LostReach `json:"reach" doc:"moments that could be reached and cannot any more"`
}

// mostFindings is how many findings a report names.
const mostFindings = 1000

// Run looks through the store.
func (a *Auditor) Run(ctx context.Context, report task.Report) (r Result, err error) {
	r.Full = a.Full
	clusters, err := a.Catalog.Clusters(ctx)
	if err != nil {
		return r, err
	}
	ids := make([]string, len(clusters))
	for i, k := range clusters {
		ids[i] = k.ID
	}
	books := audit.NewBooks(ids)
	for _, k := range clusters {
		if err := a.want(ctx, books, k); err != nil {
			return r, fmt.Errorf("what %s should have: %w", k.Name, err)
		}
	}
	err = a.Store.List(ctx, "", func(i store.Info) error {
		r.Objects++
		r.Bytes += i.Size
		books.See(i.Key, clusterOf(i.Key))
		return ctx.Err()
	})
	if err != nil {
		return r, err
	}
	report.Log("%d objects are there, %d are named by the catalogue and the backups", r.Objects, len(books.Wanted()))
	if a.Full {
		if err := a.readAll(ctx, books, r.Bytes, report); err != nil {
			return r, err
		}
	}
	findings, lost := books.Close()
	r.Findings = append([]audit.Discrepancy{}, findings[:min(len(findings), mostFindings)]...)
	if r.Losses, err = a.losses(ctx, clusters, lost); err != nil {
		return r, err
	}
	for _, f := range r.Findings {
		if f.Costs {
			report.Warn("%s: %s %s", f.Kind, f.Key, f.Detail)
		}
	}
	return r, nil
}

// clusterOf reads the cluster's id from a key.
func clusterOf(key string) string {
	rest, ok := strings.CutPrefix(key, "clusters/")
	id, _, below := strings.Cut(rest, "/")
	if !ok || !below {
		return ""
	}
	return id
}

// want names what the store should hold of a cluster.
func (a *Auditor) want(ctx context.Context, books *audit.Books, k catalog.Cluster) error {
	segments, err := a.Catalog.Segments(ctx, k.ID)
	if err != nil {
		return err
	}
	books.Want(audit.Object{Key: store.RecordKey(k.ID), Cluster: k.ID, Remade: true})
	chapters := make(map[string]bool)
	for _, s := range segments {
		seg := pg.Segment{Timeline: s.Timeline, Number: s.Number}
		books.Want(audit.Object{Key: store.SegmentKey(k.ID, s.Timeline, s.Name), Cluster: k.ID, Segment: seg})
		books.Want(audit.Object{Key: store.IndexKey(k.ID, s.Timeline, s.Name), Cluster: k.ID, Segment: seg, Remade: true})
		chapters[store.ChapterKey(k.ID, s.Timeline, s.Number/journal.ChapterSize)] = true
	}
	for key := range chapters { // may be there
		if _, err := a.Store.Stat(ctx, key); err == nil {
			books.Want(audit.Object{Key: key, Cluster: k.ID, Remade: true})
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	timelines, err := a.Catalog.Timelines(ctx, k.ID)
	if err != nil {
		return err
	}
	for _, t := range timelines {
		books.Want(audit.Object{Key: store.HistoryKey(k.ID, t.Timeline), Cluster: k.ID, Segment: pg.Segment{Timeline: t.Timeline}})
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

// wantBackup names the manifest and the packs of a base backup.
func (a *Auditor) wantBackup(ctx context.Context, books *audit.Books, k catalog.Cluster, id string) error {
	key := store.ManifestKey(k.ID, id)
	books.Want(audit.Object{Key: key, Cluster: k.ID, Backup: id})
	f, err := a.Store.Open(ctx, key, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil // found missing later
	}
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	tail, err := layout.ReadManifest(f, func(layout.Head) error { return nil }, func(layout.File) error { return ctx.Err() })
	if errors.Is(err, layout.ErrCorrupt) {
		books.Lost(key, err.Error())
		return nil
	}
	if err != nil {
		return err
	}
	for n := 1; n <= tail.Packs; n++ {
		books.Want(audit.Object{Key: store.PackKey(k.ID, id, n), Cluster: k.ID, Backup: id})
	}
	return nil
}

// readAll reads every object that should be there, to its end.
func (a *Auditor) readAll(ctx context.Context, books *audit.Books, total int64, report task.Report) error {
	var done int64
	for _, key := range books.Wanted() {
		n, err := a.readOne(ctx, key)
		done += n
		report.Progress(done, total, task.Bytes, key)
		switch {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case errors.Is(err, store.ErrNotFound): // found missing later
		case errors.Is(err, layout.ErrCorrupt):
			books.Lost(key, err.Error())
		case err != nil:
			return err
		}
	}
	return nil
}

func (a *Auditor) readOne(ctx context.Context, key string) (int64, error) {
	f, err := a.Store.Open(ctx, key, 0)
	if err != nil {
		return 0, err
	}
	defer func() { _ = f.Close() }()
	read := &counting{Reader: f}
	content, err := layout.OpenObject(read)
	if err == nil {
		_, err = io.Copy(io.Discard, content)
	}
	return read.n, err
}

type counting struct {
	io.Reader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	return n, err
}

// losses computes the reach of each cluster with what was lost and without it.
func (a *Auditor) losses(ctx context.Context, clusters []catalog.Cluster, lost map[string]audit.Losses) ([]Loss, error) {
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
		before, _ := ar.Reach()
		bases, wal, forks := ar.Known()
		bases, wal = l.Without(bases, wal, k.SegmentSize)
		after, _ := reach.Compute(bases, wal, forks)
		loss := Loss{Cluster: k.Name, Backups: append([]string{}, l.Backups...), Reach: append([]audit.LostReach{}, audit.Difference(before, after)...)}
		list = append(list, loss)
	}
	return list, nil
}
