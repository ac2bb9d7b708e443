// Package schedule begins what the calendar says is due.
//
// Invariant: each due time of each cluster is begun once, by whichever instance is first; of those that were missed
// while no instance ran, only the newest is caught up, and never in a quiet window. When something is due is computed
// by core/calendar; the work is the caller's.
package schedule

import (
	"context"
	"encoding/json"
	"log/slog"
	"time"

	"velvetrewind/core/calendar"
	"velvetrewind/core/keep"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/upkeep/retention"
)

// Scheduler watches the calendar.
type Scheduler struct {
	Catalog *catalog.Catalog
	Now     func() time.Time
	Every   time.Duration // how often it looks
	Log     *slog.Logger
	// Begin submits the work of an entry, for a cluster unless it is the store's.
	Begin func(ctx context.Context, e catalog.Entry, k *catalog.Cluster) (task string, err error)

	next map[dueKey]dueAt
}

// abandoned is how old a claim without a task is whose instance must have died.
const abandoned = time.Minute

type dueKey struct{ entry, cluster string }

// dueAt remembers when something is due next, for as long as nothing changes.
type dueAt struct {
	after    time.Time
	schedule string
	next     time.Time
}

// Run looks again and again until ctx ends.
func (s *Scheduler) Run(ctx context.Context) {
	tick := time.NewTicker(s.Every)
	defer tick.Stop()
	for {
		if err := s.Once(ctx); err != nil && ctx.Err() == nil {
			s.Log.Warn("reading the calendar failed", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Once begins what is due now.
func (s *Scheduler) Once(ctx context.Context) error {
	all, err := Load(ctx, s.Catalog)
	if err != nil {
		return err
	}
	if s.next == nil {
		s.next = make(map[dueKey]dueAt)
	}
	for i := range all.Entries {
		e := &all.Entries[i]
		if e.Paused {
			continue
		}
		if e.Store() {
			if err := s.look(ctx, e, nil, all.last[dueKey{e.ID, ""}]); err != nil {
				return err
			}
		}
		for _, k := range all.ClustersOf(e) {
			if err := s.look(ctx, e, &k, all.last[dueKey{e.ID, k.ID}]); err != nil {
				return err
			}
		}
	}
	return nil
}

// look begins an entry for a cluster if it is due.
func (s *Scheduler) look(ctx context.Context, e *Entry, k *catalog.Cluster, last catalog.CalendarRun) error {
	now := s.Now()
	if last.EntryID != "" && last.TaskID == "" && last.Problem == "" && now.Sub(last.BegunAt) > abandoned {
		mine, err := s.Catalog.ReclaimRun(ctx, last, now)
		if err != nil || !mine {
			return err
		}
		return s.begin(ctx, e, k, last)
	}
	id, after, shift := "", e.Since, time.Duration(0)
	if k != nil {
		id, shift = k.ID, e.ShiftOf(k.ID)
		if k.CreatedAt.After(after) {
			after = k.CreatedAt
		}
	}
	if last.Due.After(after) {
		after = last.Due
	}
	key := dueKey{e.ID, id}
	known := s.next[key]
	if !known.after.Equal(after) || known.schedule != string(e.Schedule) {
		r, err := e.Calendar.Next(after, shift)
		if err != nil {
			return nil // refused when it was saved; a zone's rules may change
		}
		known = dueAt{after, string(e.Schedule), r.At}
		s.next[key] = known
	}
	if known.next.After(now) || e.Calendar.Quiet(now) {
		return nil
	}
	due, ok := e.Calendar.Latest(after, now, shift)
	if !ok {
		return nil
	}
	run := catalog.CalendarRun{EntryID: e.ID, ClusterID: id, Due: due, BegunAt: now}
	mine, err := s.Catalog.ClaimRun(ctx, run)
	if err != nil || !mine {
		return err
	}
	return s.begin(ctx, e, k, run)
}

// begin submits the work of a run that was claimed.
func (s *Scheduler) begin(ctx context.Context, e *Entry, k *catalog.Cluster, run catalog.CalendarRun) (err error) {
	if run.TaskID, err = s.Begin(ctx, e.Entry, k); err != nil {
		run.Problem = err.Error()
		s.Log.Warn("work of the calendar was not begun", "work", e.Work, "cluster", run.ClusterID, "due", run.Due, "error", err)
	}
	return s.Catalog.SettleRun(ctx, run)
}

// Entry is an entry of the calendar that was read.
type Entry struct {
	catalog.Entry
	Plan     calendar.Schedule
	Calendar *calendar.Calendar
}

// Store tells whether the entry is about the store.
func (e *Entry) Store() bool { return !e.ClusterID.Valid && !e.PolicyID.Valid }

// ShiftOf is by how much later a cluster begins.
func (e *Entry) ShiftOf(cluster string) time.Duration {
	return calendar.Shift(e.Plan.Jitter, e.ID, cluster)
}

// Read reads a schedule and its time zone.
func Read(s calendar.Schedule) (*calendar.Calendar, error) {
	zone, err := retention.Zone(s.Zone)
	if err != nil {
		return nil, err
	}
	return calendar.Read(s, zone)
}

// All is the whole calendar, with the clusters and policies that it is about.
type All struct {
	Entries  []Entry
	Clusters []catalog.Cluster
	Policies []catalog.Policy
	last     map[dueKey]catalog.CalendarRun
	labels   map[string]map[string]string // by cluster
}

// Load reads the calendar. An entry that cannot be read any more is left out.
func Load(ctx context.Context, c *catalog.Catalog) (*All, error) {
	all := &All{last: make(map[dueKey]catalog.CalendarRun), labels: make(map[string]map[string]string)}
	entries, err := c.Entries(ctx)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		v := Entry{Entry: e}
		if err := json.Unmarshal(e.Schedule, &v.Plan); err != nil {
			return nil, err
		}
		if v.Calendar, err = Read(v.Plan); err == nil {
			all.Entries = append(all.Entries, v)
		}
	}
	if all.Clusters, err = c.Clusters(ctx); err != nil {
		return nil, err
	}
	for _, k := range all.Clusters {
		if all.labels[k.ID], err = k.Labels(); err != nil {
			return nil, err
		}
	}
	if all.Policies, err = c.Policies(ctx); err != nil {
		return nil, err
	}
	runs, err := c.LastRuns(ctx)
	for _, r := range runs {
		all.last[dueKey{r.EntryID, r.ClusterID}] = r
	}
	return all, err
}

// Last is the newest begun run of an entry for a cluster, "" for the store.
func (a *All) Last(entry, cluster string) (catalog.CalendarRun, bool) {
	r, ok := a.last[dueKey{entry, cluster}]
	return r, ok
}

// ClustersOf lists the clusters that an entry is about.
func (a *All) ClustersOf(e *Entry) []catalog.Cluster {
	var list []catalog.Cluster
	for _, k := range a.Clusters {
		if e.ClusterID.String == k.ID {
			list = append(list, k)
		}
		if p := a.PolicyOf(k); p != nil && e.PolicyID.String == p.ID {
			list = append(list, k)
		}
	}
	return list
}

// PolicyOf is the policy that applies to a cluster: of those whose labels it has, the one
// that asks for most of them, and then the first by name. nil if there is none.
func (a *All) PolicyOf(k catalog.Cluster) *catalog.Policy {
	var best *catalog.Policy
	most := 0
	for i := range a.Policies {
		p := &a.Policies[i]
		want, err := p.Labels()
		if err != nil || len(want) == 0 {
			continue
		}
		fits := true
		for name, value := range want {
			fits = fits && a.labels[k.ID][name] == value
		}
		if fits && len(want) > most {
			best, most = p, len(want)
		}
	}
	return best
}

// LateSince is the time at which a base backup of a cluster was due that has not come:
// the newest complete one is older. It is zero if none is missing.
func (a *All) LateSince(k catalog.Cluster, newest, now time.Time) time.Time {
	var late time.Time
	for i := range a.Entries {
		e := &a.Entries[i]
		if e.Work != catalog.WorkBackup || e.Paused || !a.about(e, k) {
			continue
		}
		after := newest
		for _, t := range []time.Time{e.Since, k.CreatedAt} {
			if t.After(after) {
				after = t
			}
		}
		r, err := e.Calendar.Next(after, e.ShiftOf(k.ID))
		if err == nil && !r.At.After(now) && (late.IsZero() || r.At.Before(late)) {
			late = r.At
		}
	}
	return late
}

// NextRun is when the calendar begins a kind of work for a cluster next; zero if it never does.
func (a *All) NextRun(k catalog.Cluster, work string, now time.Time) time.Time {
	var next time.Time
	for i := range a.Entries {
		e := &a.Entries[i]
		if e.Work != work || e.Paused || !a.about(e, k) {
			continue
		}
		r, err := e.Calendar.Next(now, e.ShiftOf(k.ID))
		if err == nil && (next.IsZero() || r.At.Before(next)) {
			next = r.At
		}
	}
	return next
}

// Allows tells whether the calendar does a kind of work for a cluster, and may begin it now.
func (a *All) Allows(k catalog.Cluster, work string, now time.Time) bool {
	for i := range a.Entries {
		if e := &a.Entries[i]; e.Work == work && !e.Paused && a.about(e, k) && !e.Calendar.Quiet(now) {
			return true
		}
	}
	return false
}

// Forbids tells whether the calendar does a kind of work for a cluster, but may not begin it now.
func (a *All) Forbids(k catalog.Cluster, work string, now time.Time) bool {
	return !a.NextRun(k, work, now).IsZero() && !a.Allows(k, work, now)
}

func (a *All) about(e *Entry, k catalog.Cluster) bool {
	if e.ClusterID.Valid {
		return e.ClusterID.String == k.ID
	}
	p := a.PolicyOf(k)
	return p != nil && e.PolicyID.String == p.ID
}

// RuleOf is the keep rule of a cluster, and where it comes from.
func RuleOf(k catalog.Cluster, policy *catalog.Policy) (r keep.Rule, from string, err error) {
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

// EffectiveRule reads the keep rule that applies to a cluster now.
func EffectiveRule(ctx context.Context, c *catalog.Catalog, k catalog.Cluster) (r keep.Rule, from string, err error) {
	all, err := Load(ctx, c)
	if err != nil {
		return r, "", err
	}
	return RuleOf(k, all.PolicyOf(k))
}
