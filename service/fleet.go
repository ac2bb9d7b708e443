package service

import (
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/attention"
	"velvetrewind/core/keep"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/schedule"
	"velvetrewind/engine/spool"
)

// fleet is what is known of many clusters at once, so that five hundred of them cost as
// many queries as one.
type fleet struct {
	s        *Service
	now      time.Time
	tails    map[string][]spool.Tail // by cluster, what waits in its spool
	all      catalog.Standings
	calendar *schedule.All
}

// fleetOf reads how a cluster stands; all clusters when it is "".
func (s *Service) fleetOf(ctx context.Context, cluster string) (*fleet, error) {
	f := &fleet{s: s, now: s.cfg.Now(), tails: make(map[string][]spool.Tail)}
	var err error
	if f.calendar, err = schedule.Load(ctx, s.catalog); err != nil {
		return nil, err
	}
	// The spool first: what moves to the store meanwhile is then seen twice, not missed.
	for _, k := range f.calendar.Clusters {
		if cluster != "" && k.ID != cluster {
			continue
		}
		if f.tails[k.ID], err = spool.Tails(s.cfg.spool(), k.ID, k.SegmentSize); err != nil {
			return nil, err
		}
	}
	f.all, err = s.catalog.Standings(ctx, cluster)
	return f, err
}

// clusterView shows one cluster.
func (s *Service) clusterView(ctx context.Context, k catalog.Cluster) (api.Cluster, error) {
	f, err := s.fleetOf(ctx, k.ID)
	if err != nil {
		return api.Cluster{}, err
	}
	return f.view(k)
}

func (f *fleet) view(k catalog.Cluster) (v api.Cluster, err error) {
	v = api.Cluster{
		ID: k.ID, Name: k.Name, ConnString: k.ConnString, SystemID: strconv.FormatUint(k.SystemID, 10), ServerVersion: k.ServerVersion,
		Checksums: k.DataChecksums, Slot: k.Slot, CreatedAt: k.CreatedAt.UTC(), MeasuredAt: f.now.UTC(),
		Backups: f.all.Counts[k.ID], Incidents: []api.Incident{},
	}
	if v.Labels, err = k.Labels(); err != nil {
		return v, err
	}
	if v.Labels == nil {
		v.Labels = map[string]string{}
	}
	policy := f.calendar.PolicyOf(k)
	if policy != nil {
		v.Policy = policy.Name
	}
	a, err := archive.Glance(f.s.store, k, f.all, f.tails[k.ID])
	if err != nil {
		return v, err
	}
	v.Capture = captureView(a.Capture)
	spans, holes := a.Reach()
	v.Reach = each(spans, asSpan)
	v.Holes = f.holes(k, spans, holes)
	for _, i := range f.all.Incidents[k.ID] {
		shown := api.Incident{Cluster: k.Name, XID: pg.FullXID(i.XID), Time: i.CommittedAt.UTC(), LSN: i.LSN}
		if err := json.Unmarshal(i.Reasons, &shown.Reasons); err != nil {
			return v, err
		}
		v.Incidents = append(v.Incidents, shown)
	}
	newest := f.all.Newest[k.ID]
	if newest.ID != "" {
		b, err := backupView(newest, k.Name, f.all.Lost[k.ID])
		if err != nil {
			return v, err
		}
		v.LastBackup = &b
	}
	if p, ok := f.all.Proofs[k.ID]; ok {
		shown, err := proofView(p)
		if err != nil {
			return v, err
		}
		v.LastProof = &shown
	}
	if v.Promise, err = f.promise(k, policy, a.Timeline, spans, holes, newest); err != nil {
		return v, err
	}
	if late := f.calendar.LateSince(k, newest.StoppedAt, f.now); !late.IsZero() {
		late = late.UTC()
		v.LateSince = &late
	}
	v.Needs = each(f.needs(k, policy, a.Capture, v), asNeed)
	return v, nil
}

// ruleOf is the keep rule of a cluster, and where it comes from.
func ruleOf(k catalog.Cluster, policy *catalog.Policy) (r keep.Rule, from string, err error) {
	if r, ok, err := k.KeepRule(); ok || err != nil {
		return r, "its own", err
	}
	if policy != nil {
		if r, ok, err := policy.KeepRule(); ok || err != nil {
			return r, "policy " + policy.Name, err
		}
	}
	return keep.Default, "the default", nil
}

// promise compares what the rule promises with what the newest WAL reaches back to. Where
// that WAL follows a hole and no base backup has been taken since, it reaches back to nothing.
func (f *fleet) promise(k catalog.Cluster, policy *catalog.Policy, live pg.Timeline, spans []reach.Span, holes []reach.Hole,
	newest catalog.Backup) (p api.Promise, err error) {
	rule, _, err := ruleOf(k, policy)
	if err != nil {
		return p, err
	}
	p = api.Promise{Words: rule.String(), Since: f.now.Add(-rule.Span()).UTC()}
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

// holes says of each hole what caused it and when moments can be reached again.
func (f *fleet) holes(k catalog.Cluster, spans []reach.Span, holes []reach.Hole) []api.Hole {
	list := []api.Hole{}
	for _, h := range holes {
		v := api.Hole{Timeline: h.Timeline, From: h.From, To: h.To, Cause: "it was never captured"}
		for _, r := range f.all.Released[k.ID] {
			if r.Timeline == h.Timeline && k.SegmentSize.Start(r.First) < h.To && h.From < k.SegmentSize.Start(r.Last+1) {
				v.Cause, v.Meant = "deleted by the keep rule on "+r.ReleasedAt.UTC().Format("2006-01-02"), true
			}
		}
		lost := f.all.Lost[k.ID]
		for _, s := range lost.Segments {
			if s.Timeline == h.Timeline && h.From <= k.SegmentSize.Start(s.Number) && k.SegmentSize.Start(s.Number) < h.To {
				v.Cause, v.Meant = "it cannot be read, as the audit of "+lost.FoundAt.Format("2006-01-02")+" found", false
			}
		}
		begins := k.SegmentSize.Start(k.SegmentSize.Number(h.From)) // there capture asked for it in vain
		for _, c := range f.all.Causes[k.ID] {
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

func (f *fleet) needs(k catalog.Cluster, policy *catalog.Policy, c catalog.Capture, v api.Cluster) []attention.Need {
	alert := time.Duration(k.CaptureAlert) * time.Second
	if policy != nil && policy.CaptureAlert.Valid {
		alert = time.Duration(policy.CaptureAlert.Int64) * time.Second
	}
	facts := attention.Cluster{
		Name: k.Name, Added: k.CreatedAt, CaptureWanted: c.Wanted || c.State == catalog.CaptureRebuilding, CaptureState: c.State,
		CaptureRuns: c.Receives(), CaptureFailed: c.State == catalog.CaptureFailed, CaptureSince: c.Since,
		CaptureProblem: c.Problem, CaptureAlert: alert, Bases: v.Backups, BaseRunning: f.all.Backing[k.ID],
		Promised: v.Promise.Since, Incidents: len(v.Incidents),
	}
	if age, ok := c.CompleteAge(time.Now()); ok && c.Wanted && c.Receives() {
		facts.CompleteAge = age
	}
	facts.StoreTaken, facts.StoreUnlocked = f.s.mirrors.taken(), f.s.mirrors.notLocked()
	facts.Spooled, facts.SpoolLimit, facts.Retained, facts.Room, facts.ClockAhead = c.Spooled, f.s.cfg.spoolLimit(), c.Retained, c.Room,
		c.ServerAhead()
	if c.ReadableTo != 0 {
		facts.DamagedAt = c.ReadableTo.String()
	}
	facts.LostBases = len(f.all.Lost[k.ID].Backups)
	if !v.Promise.Held {
		facts.HeldFrom = v.Promise.HeldFrom
	}
	if v.LastBackup != nil {
		facts.LastBase, facts.PageFaults = v.LastBackup.StoppedAt, v.LastBackup.PageFaults
	}
	if v.LateSince != nil {
		facts.LateSince = *v.LateSince
	}
	for _, h := range v.Holes {
		facts.Holes = append(facts.Holes, attention.Gap{Text: "from " + h.From.String() + " to " + h.To.String(), Closed: h.Until != nil,
			Meant: h.Meant})
	}
	return attention.Needs(facts, f.now)
}
