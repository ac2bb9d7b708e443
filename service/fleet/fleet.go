// Package fleet tells how clusters stand: capture, reach, holes, base backups, the promise, and what needs attention.
//
// Invariant: what is read is a few queries, however many clusters there are; nothing is changed. A promise is held only
// where no hole lies between what it promises and the present.
package fleet

import (
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/attention"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
	"velvetrewind/core/rehearsal"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/takeover"
	"velvetrewind/engine/schedule"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store/vault"
	"velvetrewind/service/shapes"
)

// Trouble tells what is wrong with the store; each is "" while nothing is.
type Trouble interface {
	Taken() string     // why nothing in it may be deleted or replaced
	NotLocked() string // why the locks of what it holds were not extended
}

// Reader reads how clusters stand.
type Reader struct {
	Catalog    *catalog.Catalog
	Store      *vault.Vault
	Spool      string // directory
	SpoolLimit int64  // bytes
	Trouble    Trouble
	Now        func() time.Time
}

// Fleet is what is known of many clusters at once, so that five hundred of them cost as
// many queries as one.
type Fleet struct {
	r         *Reader
	Now       time.Time
	tails     map[string][]spool.Tail // by cluster, what waits in its spool
	Standings catalog.Standings
	Calendar  *schedule.All
}

// Of reads how a cluster stands; all clusters when it is "".
func (r *Reader) Of(ctx context.Context, cluster string) (*Fleet, error) {
	f := &Fleet{r: r, Now: r.Now(), tails: make(map[string][]spool.Tail)}
	var err error
	if f.Calendar, err = schedule.Load(ctx, r.Catalog); err != nil {
		return nil, err
	}
	// The spool first: what moves to the store meanwhile is then seen twice, not missed.
	for _, k := range f.Calendar.Clusters {
		if cluster != "" && k.ID != cluster {
			continue
		}
		if f.tails[k.ID], err = spool.Tails(r.Spool, k.ID, k.SegmentSize); err != nil {
			return nil, err
		}
	}
	f.Standings, err = r.Catalog.Standings(ctx, cluster)
	return f, err
}

// View shows one cluster.
func (r *Reader) View(ctx context.Context, k catalog.Cluster) (api.Cluster, error) {
	f, err := r.Of(ctx, k.ID)
	if err != nil {
		return api.Cluster{}, err
	}
	return f.View(k)
}

// View shows how one of the clusters stands.
func (f *Fleet) View(k catalog.Cluster) (v api.Cluster, err error) {
	v = api.Cluster{
		ID: k.ID, Name: k.Name, ConnString: k.ConnString, SystemID: strconv.FormatUint(k.SystemID, 10), ServerVersion: k.ServerVersion,
		Checksums: k.DataChecksums, Slot: k.Slot, CreatedAt: k.CreatedAt.UTC(), MeasuredAt: f.Now.UTC(),
		Backups: f.Standings.Counts[k.ID], Incidents: []api.Incident{},
	}
	if v.Labels, err = k.Labels(); err != nil {
		return v, err
	}
	if v.Labels == nil {
		v.Labels = map[string]string{}
	}
	policy := f.Calendar.PolicyOf(k)
	if policy != nil {
		v.Policy = policy.Name
	}
	a, err := archive.Glance(f.r.Store, k, f.Standings, f.tails[k.ID])
	if err != nil {
		return v, err
	}
	v.Capture = shapes.Capture(a.Capture)
	spans, holes := a.Reach()
	v.Reach = shapes.Each(spans, shapes.Span)
	v.Holes = f.Holes(k, spans, holes)
	for _, i := range f.Standings.Incidents[k.ID] {
		shown := api.Incident{Cluster: k.Name, XID: pg.FullXID(i.XID), Time: i.CommittedAt.UTC(), LSN: i.LSN, Author: i.Author}
		if err := json.Unmarshal(i.Reasons, &shown.Reasons); err != nil {
			return v, err
		}
		v.Incidents = append(v.Incidents, shown)
	}
	newest := f.Standings.Newest[k.ID]
	if newest.ID != "" {
		b, err := shapes.Backup(newest, k.Name, f.Standings.Lost[k.ID])
		if err != nil {
			return v, err
		}
		v.LastBackup = &b
	}
	if p, ok := f.Standings.Proofs[k.ID]; ok {
		shown, err := shapes.Proof(p)
		if err != nil {
			return v, err
		}
		v.LastProof = &shown
	}
	if v.Promise, err = f.promise(k, policy, a.Timeline, spans, holes, newest); err != nil {
		return v, err
	}
	if late := f.Calendar.LateSince(k, newest.StoppedAt, f.Now); !late.IsZero() {
		late = late.UTC()
		v.LateSince = &late
	}
	v.Needs = shapes.Each(f.needs(k, policy, a.Capture, v), shapes.Need)
	return v, nil
}

// promise compares what the rule promises with what the newest WAL reaches back to. Where
// that WAL follows a hole and no base backup has been taken since, it reaches back to nothing.
func (f *Fleet) promise(k catalog.Cluster, policy *catalog.Policy, live pg.Timeline, spans []reach.Span, holes []reach.Hole,
	newest catalog.Backup) (p api.Promise, err error) {
	rule, _, err := schedule.RuleOf(k, policy)
	if err != nil {
		return p, err
	}
	p = api.Promise{Words: rule.String(), Since: f.Now.Add(-rule.Span()).UTC()}
	for _, s := range spans {
		after := func(h reach.Hole) bool { return h.Timeline == live && h.From >= s.To }
		if s.Timeline == live && !slices.ContainsFunc(holes, after) {
			from := s.FromTime.UTC()
			p.HeldFrom = &from
		}
	}
	// A span that begins at a fork is reached through its parent's.
	for i := len(spans) - 1; i >= 0 && p.HeldFrom != nil; i-- {
		if s := spans[i]; s.Timeline < live && s.ToTime.Equal(*p.HeldFrom) {
			from := s.FromTime.UTC()
			p.HeldFrom = &from
			live = s.Timeline
		}
	}
	p.Held = rule.SpanHours == 0 && newest.ID != "" || p.HeldFrom != nil && !p.HeldFrom.After(p.Since)
	return p, nil
}

// Holes says of each hole what caused it and when moments can be reached again.
func (f *Fleet) Holes(k catalog.Cluster, spans []reach.Span, holes []reach.Hole) []api.Hole {
	list := []api.Hole{}
	for _, h := range holes {
		v := api.Hole{Timeline: h.Timeline, From: h.From, To: h.To, Cause: "it was never captured"}
		for _, r := range f.Standings.Released[k.ID] {
			if r.Timeline == h.Timeline && k.SegmentSize.Start(r.First) < h.To && h.From < k.SegmentSize.Start(r.Last+1) {
				v.Cause, v.Meant = "deleted by the keep rule on "+r.ReleasedAt.UTC().Format("2006-01-02"), true
			}
		}
		lost := f.Standings.Lost[k.ID]
		for _, s := range lost.Segments {
			if s.Timeline == h.Timeline && h.From <= k.SegmentSize.Start(s.Number) && k.SegmentSize.Start(s.Number) < h.To {
				v.Cause, v.Meant = "it cannot be read, as the audit of "+lost.FoundAt.Format("2006-01-02")+" found", false
			}
		}
		begins := k.SegmentSize.Start(k.SegmentSize.Number(h.From)) // there capture asked for it in vain
		for _, c := range f.Standings.Causes[k.ID] {
			// One that begins where its timeline does was noticed on the timeline before.
			if c.Timeline == h.Timeline && begins <= c.From && c.From < h.To || c.Timeline < h.Timeline && c.From <= h.To && !v.Meant {
				v.Cause = c.Cause
				v.Meant = false
			}
		}
		for _, s := range spans {
			if s.Timeline == h.Timeline && s.From >= h.To && (v.Until == nil || s.FromTime.Before(*v.Until)) {
				until := s.FromTime.UTC()
				v.Until = &until
			}
		}
		list = append(list, v)
	}
	return list
}

func (f *Fleet) needs(k catalog.Cluster, policy *catalog.Policy, c catalog.Capture, v api.Cluster) []attention.Need {
	alert := time.Duration(k.CaptureAlert) * time.Second
	if policy != nil && policy.CaptureAlert.Valid {
		alert = time.Duration(policy.CaptureAlert.Int64) * time.Second
	}
	facts := attention.Cluster{
		Name: k.Name, Added: k.CreatedAt, CaptureWanted: c.Wanted || c.State == catalog.CaptureRebuilding, CaptureState: c.State,
		CaptureRuns: c.Receives(), CaptureFailed: c.State == catalog.CaptureFailed, CaptureSince: c.Since,
		CaptureProblem: c.Problem, CaptureAlert: alert, Bases: v.Backups, BaseRunning: f.Standings.Backing[k.ID],
		Promised: v.Promise.Since, Incidents: len(v.Incidents),
	}
	if age, ok := c.CompleteAge(time.Now()); ok && c.Wanted && c.Receives() {
		facts.CompleteAge = age
	}
	facts.StoreTaken, facts.StoreUnlocked = f.r.Trouble.Taken(), f.r.Trouble.NotLocked()
	facts.Spooled, facts.SpoolLimit, facts.Retained, facts.Room, facts.ClockAhead = c.Spooled, f.r.SpoolLimit, c.Retained, c.Room,
		c.ServerAhead()
	if c.ReadableTo != 0 {
		facts.DamagedAt = c.ReadableTo.String()
	}
	facts.LostBases = len(f.Standings.Lost[k.ID].Backups)
	if !v.Promise.Held {
		facts.HeldFrom = v.Promise.HeldFrom
	}
	if v.LastBackup != nil {
		facts.LastBase, facts.PageFaults = v.LastBackup.StoppedAt, v.LastBackup.PageFaults
	}
	if v.LateSince != nil {
		facts.LateSince = *v.LateSince
	}
	if r := f.Standings.Rehearsed[k.ID]; rehearsal.Outcome(r.Outcome).Bad() {
		facts.Unproved, facts.UnprovedAt = r.Cause, r.EndedAt.Time
	}
	for _, t := range f.Standings.Aside[k.ID] {
		facts.Aside = append(facts.Aside, attention.SetAside{Takeover: t.ID, At: t.EndedAt.Time, Until: takeover.KeptUntil(t)})
	}
	for _, h := range v.Holes {
		facts.Holes = append(facts.Holes, attention.Gap{Text: "from " + h.From.String() + " to " + h.To.String(), Closed: h.Until != nil,
			Meant: h.Meant})
	}
	return attention.Needs(facts, f.Now)
}
