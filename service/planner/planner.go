// Package planner opens what is known of a cluster's past, and plans restores from it.
//
// Invariant: a time is read in the caller's zone, or refused where that is not known; the present is that of the
// cluster's server, by whose clock commits are timed. Nothing is changed, but that an instance elsewhere is asked to share
// what it has received. What a moment means, and which base and WAL lead to it, is left to the engine.
package planner

import (
	"context"
	"log/slog"
	"time"

	"velvetrewind/core/layout"
	"velvetrewind/core/moment"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/store/vault"
)

// Planner plans restores.
type Planner struct {
	Catalog  *catalog.Catalog
	Store    *vault.Vault
	Spool    string // directory
	Books    *names.Books
	Codec    layout.Codec
	Instance int64 // the number of this instance
	Log      *slog.Logger
}

// Parse reads a moment for a caller whose zone is given, or not known when it is "". The
// present is that of the cluster's server, by whose clock commits are timed.
func (p *Planner) Parse(ctx context.Context, cluster, text, zone string) (moment.Moment, error) {
	k, err := p.Catalog.Cluster(ctx, cluster)
	if err != nil {
		return moment.Moment{}, err
	}
	state, err := p.Catalog.Capture(ctx, k.ID)
	if err != nil {
		return moment.Moment{}, err
	}
	caller := moment.Caller{Now: time.Now().Add(state.ServerAhead()).UTC()}
	if zone != "" {
		loc, err := time.LoadLocation(zone)
		if err != nil || zone == "Local" {
			return moment.Moment{}, problem.New(problem.Invalid, "Give a name such as Europe/Lisbon.", "the moment cannot be read",
				"%q is no zone", zone)
		}
		caller.Zone, caller.Now = loc, caller.Now.In(loc)
	}
	return moment.Parse(text, caller)
}

// Opened is a cluster with its archive and journal, as they are now.
type Opened struct {
	Cluster catalog.Cluster
	Archive *archive.Archive
	Journal *changes.Journal
}

// Open opens the archive and the journal of a cluster.
func (p *Planner) Open(ctx context.Context, cluster string) (o Opened, err error) {
	if o.Cluster, err = p.Catalog.Cluster(ctx, cluster); err != nil {
		return o, err
	}
	if o.Archive, err = archive.Open(ctx, p.Catalog, p.Store, p.Spool, o.Cluster); err != nil {
		return o, err
	}
	book, err := p.Books.Of(ctx, o.Cluster.ID)
	if err != nil {
		return o, err
	}
	o.Journal, err = changes.Open(ctx, o.Archive, p.Codec, book)
	return o, err
}

// Plan plans a restore, and lists the WAL that it replays.
func (p *Planner) Plan(ctx context.Context, cluster, text, zone string) (k catalog.Cluster, r plan.Restore,
	replays []catalog.Stretch, err error) {
	m, err := p.Parse(ctx, cluster, text, zone)
	if err != nil {
		return k, r, nil, err
	}
	if k, err = p.Catalog.Cluster(ctx, cluster); err == nil {
		err = p.HaveStored(ctx, k)
	}
	if err != nil {
		return k, r, nil, err
	}
	o, err := p.Open(ctx, cluster)
	if err != nil {
		return o.Cluster, r, nil, err
	}
	if r, _, err = restore.Plan(ctx, o.Archive, o.Journal, m); err != nil {
		return o.Cluster, r, nil, err
	}
	return o.Cluster, r, o.Replays(r), nil
}

// Replays is the WAL that a plan replays.
func (o *Opened) Replays(r plan.Restore) (replays []catalog.Stretch) {
	for _, seg := range r.Segments(o.Archive.Ancestors, o.Cluster.SegmentSize) {
		if n := len(replays); n > 0 && replays[n-1].Timeline == seg.Timeline && replays[n-1].Last+1 == seg.Number {
			replays[n-1].Last = seg.Number
			continue
		}
		replays = append(replays, catalog.Stretch{Timeline: seg.Timeline, First: seg.Number, Last: seg.Number})
	}
	return replays
}

// storedWithin is how long another instance is given to put what it has received into the store.
const storedWithin = 10 * time.Second

// HaveStored has an instance that captures a cluster on another host put what it has received into
// the store, where this one can read it. If it does not, what is in the store must do.
func (p *Planner) HaveStored(ctx context.Context, k catalog.Cluster) error {
	state, err := p.Catalog.Capture(ctx, k.ID)
	if err != nil || state.Holder == 0 || state.Holder == p.Instance || !state.Receives() || state.FlushedLSN == 0 {
		return err
	}
	for asked := time.Now(); time.Since(asked) < storedWithin; {
		if is, err := p.Catalog.StoredTo(ctx, k, state.Timeline, state.FlushedLSN); err != nil || is {
			return err
		}
		if err := p.Catalog.AskStored(ctx, k.ID, state.FlushedLSN); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	p.Log.Warn("the instance that captures a cluster does not share what it has received", "cluster", k.Name, "instance", state.Holder)
	return nil
}
