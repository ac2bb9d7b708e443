// Package retention applies keep rules: it gathers what there is of a cluster, has it decided
// what is needed, and deletes the rest.
//
// Invariant: what goes is taken out of the catalogue first, in one transaction, so that
// restores no longer use it; when the delay for taking it back has passed, manifests,
// packs and segments are deleted. Cut short at any moment, it is finished when the store is
// next looked after.
package retention

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"velvetrewind/core/attention"
	"velvetrewind/core/journal"
	"velvetrewind/core/keep"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/notice"
	"velvetrewind/engine/store/vault"
)

// Enforcer keeps what rules need of clusters.
type Enforcer struct {
	Catalog *catalog.Catalog
	Store   *vault.Vault
	Notices *notice.Board
	Spool   string
	Second  bool // there should be a second store
}

// Preview is what applying a rule would do.
type Preview struct {
	keep.Decision
	Rule         keep.Rule
	Words        string // the rule in words
	Token        string // names exactly what would be deleted; give it to apply
	FreesBackups *int64 // bytes of packs that would be deleted, where it was measured and can be known
	FreesWAL     int64  // bytes of WAL that would be deleted
}

// Zone loads the time zone of a rule.
func Zone(name string) (*time.Location, error) {
	if name == "" {
		return time.UTC, nil
	}
	z, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return nil, problem.New(problem.Invalid, "Name one as Europe/Lisbon or UTC.", "the time zone is not known",
			"there is no time zone %q", name)
	}
	return z, nil
}

// history gathers what there is of a cluster, and where its copies are put.
func (k *Enforcer) history(ctx context.Context, c catalog.Cluster) (h keep.History, places []string, err error) {
	a, err := archive.Open(ctx, k.Catalog, k.Store, k.Spool, c)
	if err != nil {
		return h, nil, err
	}
	h = keep.History{Size: c.SegmentSize, Live: a.Timeline}
	h.Bases, h.WAL, h.Forks = a.Recorded()
	h.Lost = a.Lost
	pins, err := k.Catalog.Pins(ctx, c.ID)
	if err != nil {
		return h, nil, err
	}
	for _, p := range pins {
		h.Pins = append(h.Pins, keep.Pin{Base: p.BackupID, Reason: p.Reason, Until: p.Until.Time})
	}
	copies, err := k.Catalog.Copies(ctx, c.ID)
	if err != nil {
		return h, nil, err
	}
	for _, v := range copies {
		if v.State == catalog.CopyOpen {
			continue // on a timeline of its own, it needs nothing more
		}
		var p plan.Restore
		if err := json.Unmarshal(v.Plan, &p); err != nil {
			return h, nil, fmt.Errorf("the plan of copy %s: %w", v.ID, err)
		}
		last := p.Segments(nil, c.SegmentSize)
		places = append(places, v.Place())
		h.Uses = append(h.Uses, keep.Use{Copy: v.ID, Base: v.BackupID, Timeline: p.Boundary.Timeline,
			To: c.SegmentSize.Start(last[len(last)-1].Number + 1)})
	}
	return h, places, nil
}

// Preview tells what applying a rule at a time would do. With measure it is looked
// through every manifest for how many bytes of packs would come free.
func (k *Enforcer) Preview(ctx context.Context, c catalog.Cluster, r keep.Rule, at time.Time, measure bool) (Preview, error) {
	p, _, err := k.preview(ctx, c, r, at, measure)
	return p, err
}

func (k *Enforcer) preview(ctx context.Context, c catalog.Cluster, r keep.Rule, at time.Time,
	measure bool) (p Preview, places []string, err error) {
	if err := r.Check(); err != nil {
		return p, nil, problem.Wrap(err, problem.Invalid, "the keep rule cannot be used",
			"For example: velvet keep set "+c.Name+" --span 31d --monthly 12")
	}
	zone, err := Zone(r.Zone)
	if err != nil {
		return p, nil, err
	}
	h, places, err := k.history(ctx, c)
	if err != nil {
		return p, nil, err
	}
	p = Preview{Decision: keep.Decide(h, r, at, zone), Rule: r, Words: r.String()}
	bases, wal := p.Releasable()
	p.Token = token(bases, wal)
	if p.FreesWAL, err = k.Catalog.StoredBytes(ctx, c.ID, stretches(wal)); err != nil {
		return p, nil, err
	}
	if measure {
		n, err := backup.Alone(ctx, k.Store, k.Catalog, c.ID, bases...)
		if err == nil {
			p.FreesBackups = &n
		} else if !backup.Unreadable(err) {
			return p, nil, fmt.Errorf("how much would come free: %w", err)
		}
	}
	return p, places, nil
}

func stretches(wal []keep.WAL) (list []catalog.Stretch) {
	for _, w := range wal {
		list = append(list, catalog.Stretch{Timeline: w.Timeline, First: w.First, Last: w.Last})
	}
	return list
}

// token names what would be deleted, and nothing else: time passing alone does not change it.
func token(bases []string, wal []keep.WAL) string {
	sorted := slices.Clone(bases)
	slices.Sort(sorted)
	h := sha256.New()
	_, _ = fmt.Fprintln(h, sorted)
	for _, w := range wal {
		_, _ = fmt.Fprintln(h, w.Timeline, w.First, w.Last)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// Applied is what was deleted.
type Applied struct {
	Bases    []string
	Segments int64
	WAL      int64 // bytes of WAL
}

// Apply deletes what a rule does not need. If wanted is the token of a preview, it is
// just that, or nothing; without one nobody has looked at it.
func (k *Enforcer) Apply(ctx context.Context, c catalog.Cluster, r keep.Rule, at time.Time, wanted string,
	report task.Report) (Applied, error) {
	state, err := k.Catalog.Capture(ctx, c.ID)
	if err != nil {
		return Applied{}, err
	}
	if state.State == catalog.CaptureRebuilding {
		return Applied{}, problem.New(problem.Conflict, "Wait for the end of: velvet store rebuild", "nothing was deleted",
			"the cluster is being recorded again from its store, and not all of it is known yet")
	}
	if off := state.ServerAhead(); off.Abs() > attention.ClockTolerance {
		return Applied{}, problem.New(problem.Conflict, "Set the clocks right, then try again", "nothing was deleted",
			"the server's clock and this service's are %s apart, so that it is not known what is old enough",
			off.Abs().Round(100*time.Millisecond))
	}
	p, places, err := k.preview(ctx, c, r, at, false)
	if err != nil {
		return Applied{}, err
	}
	if wanted == "" {
		if err := alive(p, state, r, at); err != nil {
			return Applied{}, err
		}
	}
	if wanted != "" && p.Token != wanted {
		return Applied{}, problem.New(problem.Conflict, "Preview it again: velvet keep preview "+c.Name, "nothing was deleted",
			"things have changed since the preview: something else would be deleted now")
	}
	bases, wal := p.Releasable()
	done := Applied{Bases: append([]string{}, bases...), WAL: p.FreesWAL}
	report.Log("rule: %s", p.Words)
	for _, b := range p.Bases {
		if !b.Needed {
			report.Log("base %s of %s is deleted: %s", b.ID, b.StopTime.UTC().Format("2006-01-02 15:04 UTC"), b.Reasons[0].Text)
		}
	}
	for _, w := range wal {
		done.Segments += int64(w.Last - w.First + 1)
		report.Log("WAL of timeline %d from %s to %s is deleted: %s", w.Timeline, w.From, w.To, w.Reasons[0].Text)
	}
	if len(bases)+len(wal) == 0 {
		report.Log("everything is still needed; nothing is deleted")
		return done, nil
	}
	if err := k.Catalog.Release(ctx, c.ID, bases, stretches(wal), places, at); err != nil {
		return Applied{}, err
	}
	// Decided and recorded: what follows only frees the space, now or later.
	if err := k.Tidy(ctx, c, report); err != nil {
		report.Warn("the space is not all freed yet, which is tried again: %v", err)
	}
	return done, nil
}

// alive refuses to delete anything unasked where nothing at all is of the promised time:
// then capture has been dead for as long, or this host's clock is far ahead, and what there
// is may be all there will ever be.
func alive(p Preview, state catalog.Capture, r keep.Rule, at time.Time) error {
	newest := state.CompleteTo.Time
	for _, b := range p.Bases {
		if b.StopTime.After(newest) {
			newest = b.StopTime
		}
	}
	if since := at.Add(-r.Span()); r.SpanHours == 0 || len(p.Bases) == 0 || newest.After(since) {
		return nil
	}
	return problem.New(problem.Conflict, "See to the clock and the capture; if it is intended, look and confirm: velvet keep preview, "+
		"then velvet keep apply", "nothing was deleted",
		"nothing was captured within the %s that are promised: the newest that there is is of %s, and it is %s here",
		keep.Hours(r.SpanHours),
		newest.UTC().Format("2006-01-02 15:04 UTC"), at.UTC().Format("2006-01-02 15:04 UTC"))
}

// Tidy deletes from the stores what was deleted a cluster.
func (k *Enforcer) Tidy(ctx context.Context, c catalog.Cluster, report task.Report) error {
	if k.Second && k.Store.Second() == nil {
		report.Log("the second store cannot be reached: WAL is removed from both when it can")
	} else if err := k.tidyWAL(ctx, c, report); err != nil {
		return err
	}
	done, err := backup.TidyIfFree(ctx, k.Notices, k.Catalog, c.ID, report)
	if err == nil && !done {
		report.Log("a base backup is being taken: packs are removed when it has ended")
	}
	return err
}

// tidyWAL deletes the segments that were deleted, and their journal.
func (k *Enforcer) tidyWAL(ctx context.Context, c catalog.Cluster, report task.Report) error {
	released, err := k.Catalog.Released(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := k.Store.MayDelete(ctx); err != nil {
		return err
	}
	var names []string
	for _, r := range released {
		if !r.Tidied {
			names = append(names, stretchName(r.Stretch))
		}
	}
	list, next, err := k.Notices.Due(ctx, c.ID, "wal", names)
	if err != nil {
		return err
	}
	if !next.IsZero() {
		if err := k.Catalog.WaitFor(ctx, c.ID, next); err != nil {
			return err
		}
	}
	for _, r := range released {
		if r.Tidied || !slices.Contains(list, stretchName(r.Stretch)) {
			continue
		}
		again, err := k.Catalog.HasSegments(ctx, c.ID, r.Stretch)
		if err != nil {
			return err
		}
		if again {
			continue // recorded anew: it is no longer released
		}
		if still, err := k.Catalog.MarkGoing(ctx, c.ID, r.Stretch); err != nil {
			return err
		} else if !still {
			continue // taken back
		}
		for n := r.First; n <= r.Last; n++ {
			report.Progress(int64(n-r.First), int64(r.Last-r.First+1), task.None, "removing WAL that was deleted")
			if err := k.removeSegment(ctx, c, pg.Segment{Timeline: r.Timeline, Number: n}); err != nil {
				return err
			}
		}
		if err := k.removeChapters(ctx, c, r.Stretch); err != nil {
			return err
		}
		if err := k.Catalog.Tidied(ctx, c.ID, r.Stretch); err != nil {
			return err
		}
	}
	return nil
}

func stretchName(s catalog.Stretch) string {
	return fmt.Sprintf("%d %d-%d", s.Timeline, s.First, s.Last)
}

func (k *Enforcer) removeSegment(ctx context.Context, c catalog.Cluster, s pg.Segment) error {
	name := s.Name(c.SegmentSize)
	if err := k.Store.Delete(ctx, store.SegmentKey(c.ID, s.Timeline, name)); err != nil {
		return err
	}
	return k.Store.Delete(ctx, store.IndexKey(c.ID, s.Timeline, name))
}

// removeChapters deletes the chapters of the journal of which no segment is left.
func (k *Enforcer) removeChapters(ctx context.Context, c catalog.Cluster, s catalog.Stretch) error {
	for n := s.First / journal.ChapterSize; n <= s.Last/journal.ChapterSize; n++ {
		whole := catalog.Stretch{Timeline: s.Timeline, First: n * journal.ChapterSize, Last: (n+1)*journal.ChapterSize - 1}
		left, err := k.Catalog.HasSegments(ctx, c.ID, whole)
		if err != nil {
			return err
		}
		if !left {
			if err := k.Store.Delete(ctx, store.ChapterKey(c.ID, s.Timeline, n)); err != nil {
				return err
			}
		}
	}
	return nil
}
