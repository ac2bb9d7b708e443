// Package planner opens what is known of a cluster's past, and plans restores from it.
//
// Invariant: a time is read in the caller's zone, or refused where that is not known; the present is that of the
// cluster's server, by whose clock commits are timed. Nothing is changed, but that an instance elsewhere is asked to share
// what it has received. What a moment means, and which base and WAL lead to it, is left to the engine.
package planner

import (
	"context"
	"errors"
	"fmt"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
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
	newest  pg.Timeline
}

// Open opens the archive and the journal of a cluster, along the way to its newest timeline.
func (p *Planner) Open(ctx context.Context, cluster string) (o Opened, err error) {
	return p.OpenOn(ctx, cluster, 0)
}

// OpenOn opens them along the way to another timeline; 0 is the newest.
func (p *Planner) OpenOn(ctx context.Context, cluster string, t pg.Timeline) (o Opened, err error) {
	if o.Cluster, err = p.Catalog.Cluster(ctx, cluster); err != nil {
		return o, err
	}
	if o.Archive, err = archive.Open(ctx, p.Catalog, p.Store, p.Spool, o.Cluster); err != nil {
		return o, err
	}
	o.newest = o.Archive.Timeline
	if o.Archive, err = o.Archive.On(t); err != nil {
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
	if k, err = p.Catalog.Cluster(ctx, cluster); err != nil {
		return k, r, nil, err
	}
	unshared := p.HaveStored(ctx, k, latest)
	if unshared != nil && !errors.Is(unshared, errUnshared) {
		return k, r, nil, unshared
	}
	o, err := p.OpenOn(ctx, cluster, m.Timeline)
	if err != nil {
		return k, r, nil, err
	}
	r, _, err = restore.Plan(ctx, o.Archive, o.Journal, m)
	if unshared != nil && (err != nil || r.Boundary.FirstOut == nil) { // what is not shared may belong to it
		err = unshared
	}
	if err != nil {
		return o.Cluster, r, nil, err
	}
	return o.Cluster, r, o.Replays(r), nil
}

// Undone is what going back to a boundary undoes of the history that the cluster has now, on whatever timeline it was opened. Where
// the boundary is of another history, that is all since the two parted.
func (p *Planner) Undone(ctx context.Context, o Opened, b moment.Boundary) (cost journal.Cost, err error) {
	if o.Archive.Timeline != o.newest {
		if o, err = p.Open(ctx, o.Cluster.ID); err != nil {
			return cost, err
		}
	}
	if !o.Archive.Leads(b.Timeline, b.Stop) {
		t, at := o.Archive.Parting(b.Timeline)
		b = moment.Boundary{Timeline: t, Stop: at, End: at}
	}
	return o.Journal.Cost(ctx, b)
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

// latest stands for all that capture has received.
const latest pg.LSN = 0

// patience is how long an instance that is asked to share what it has received may get no further with it.
const patience = 15 * time.Second

var errUnshared = errors.New("not shared")

// HaveStored has an instance that captures a cluster on another host put what it has received up to an LSN into
// the store, where this one can read it, and waits as long as it gets on with that.
func (p *Planner) HaveStored(ctx context.Context, k catalog.Cluster, to pg.LSN) error {
	state, err := p.Catalog.Capture(ctx, k.ID)
	// Also while it receives nothing: where the server is down, what it had sent may be with that instance alone.
	if err != nil || state.Holder == 0 || state.Holder == p.Instance || state.State == catalog.CaptureStopped || state.FlushedLSN == 0 {
		return err
	}
	if to == latest {
		to = state.FlushedLSN
	}
	now, reached := state, pg.LSN(0)
	for since := time.Now(); time.Since(since) < patience; {
		if is, err := p.Catalog.StoredTo(ctx, k, state.Timeline, to); err != nil || is {
			return err
		}
		if err := p.Catalog.AskStored(ctx, k.ID, to); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		if now, err = p.Catalog.Capture(ctx, k.ID); err != nil {
			return err
		}
		far := now.StoredLSN
		if now.Holder == p.Instance { // it took over, and receives anew what the other had not stored
			far = now.FlushedLSN
		}
		if now.Holder == p.Instance && (far >= to || now.Timeline != state.Timeline) {
			return nil
		}
		if far > reached {
			reached, since = far, time.Now()
		}
	}
	detail := fmt.Sprintf("instance %d captures %s and has its WAL up to %s, and did not put that into the store when it was asked",
		now.Holder, k.Name, to)
	if now.Holder == p.Instance {
		detail = fmt.Sprintf("this instance has just taken over the capture of %s, of which another had the WAL up to %s, and has come "+
			"to %s", k.Name, to, now.FlushedLSN)
	}
	e := problem.New(problem.Conflict, fmt.Sprintf("See why with: velvet capture status %s. Then try again, or ask for a moment before "+
		"lsn %s, to which the store has everything.", k.Name, now.StoredLSN),
		"the newest WAL cannot be read by this instance", "%s", detail)
	e.Err = errUnshared
	return e
}
