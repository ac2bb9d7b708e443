// Package archive is what there is of a cluster to restore from: its base backups and
// its captured WAL, in the store and still in the spool.
//
// Invariant: an Archive is what was there when it was opened. It changes nothing; a segment that moves from the spool
// to the store meanwhile is found in either. What lies in the WAL is package changes' to say.
package archive

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"velvetrewind/core/inventory"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/reach"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store/vault"
)

// Archive is the captured WAL and the base backups of one cluster, as they are now.
type Archive struct {
	Cluster  catalog.Cluster
	Capture  catalog.Capture
	Bases    []reach.Base // those that no audit found lost
	Timeline pg.Timeline  // the newest, unless another was asked for
	// Ancestors are the forks that lead to Timeline, oldest first.
	Ancestors []pg.Fork

	Lost       inventory.Losses // what cannot be read; restores do not use it
	unreadable []pg.Segment     // of the store, in order: their records cannot be read
	Store      *vault.Vault

	bases []reach.Base  // all that are recorded
	runs  []catalog.Run // what is in the store
	tails map[pg.Segment]spool.Tail
	forks []reach.Fork

	histories map[pg.Timeline][]pg.Fork
}

// Open reads what there is of a cluster. spools is the directory of all spools.
func Open(ctx context.Context, c *catalog.Catalog, s *vault.Vault, spools string, k catalog.Cluster) (*Archive, error) {
	state, err := c.Capture(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	// The spool first: what moves to the store meanwhile is then seen twice, not missed.
	tails, err := spool.Tails(spools, k.ID, k.SegmentSize)
	if err != nil {
		return nil, err
	}
	runs, err := c.Runs(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	backups, err := c.Backups(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	timelines, err := c.Timelines(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	lost, err := c.Losses(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	return assemble(k, s, state, tails, runs, backups, timelines, lost)
}

// Glance is an Archive good for its reach alone: of the base backups it knows only those
// that reach begins with. tails were listed before the standings were read.
func Glance(s *vault.Vault, k catalog.Cluster, all catalog.Standings, tails []spool.Tail) (*Archive, error) {
	backups := append([]catalog.Backup(nil), all.Firsts[k.ID]...)
	if newest, ok := all.Newest[k.ID]; ok { // its WAL may all be in the spool
		backups = append(backups, newest)
	}
	return assemble(k, s, all.Captures[k.ID], tails, all.Runs[k.ID], backups, all.Timelines[k.ID], all.Lost[k.ID])
}

func assemble(k catalog.Cluster, s *vault.Vault, state catalog.Capture, tails []spool.Tail, runs []catalog.Run, backups []catalog.Backup,
	timelines []catalog.Timeline, lost catalog.Losses) (*Archive, error) {
	a := &Archive{Cluster: k, Capture: state, Store: s, Lost: lost.Losses, unreadable: lost.Unreadable, runs: runs,
		tails: make(map[pg.Segment]spool.Tail)}
	for _, t := range tails {
		if damaged := state.ReadableTo; damaged != 0 && t.Segment.Timeline == state.Timeline && damaged < t.End {
			if t.End = damaged; k.SegmentSize.Start(t.Segment.Number) >= damaged {
				continue
			}
		}
		a.Timeline = max(a.Timeline, t.Segment.Timeline)
		// What the store has of it may be newer: another instance captures by now.
		if !slices.ContainsFunc(runs, func(r catalog.Run) bool {
			return r.Timeline == t.Segment.Timeline && r.First <= t.Segment.Number && t.Segment.Number <= r.Last && r.End >= t.End
		}) {
			a.tails[t.Segment] = t
		}
	}
	for _, r := range runs {
		a.Timeline = max(a.Timeline, r.Timeline)
	}
	for _, b := range backups {
		a.bases = append(a.bases, reach.Base{ID: b.ID, Timeline: b.Timeline, Start: b.Start, Stop: b.Stop, StopTime: b.StoppedAt})
	}
	a.Bases, _ = lost.Without(a.bases, nil, k.SegmentSize)
	for _, t := range timelines {
		a.forks = append(a.forks, reach.Fork{Timeline: t.Timeline, Parent: t.Parent, At: t.ForkedAt})
	}
	var err error
	if a.histories, err = catalog.Histories(timelines); err != nil {
		return nil, err
	}
	a.Ancestors = a.histories[a.Timeline]
	return a, nil
}

// On is the archive of the way to another timeline than the newest.
func (a *Archive) On(t pg.Timeline) (*Archive, error) {
	if t == 0 || t == a.Timeline {
		return a, nil
	}
	_, forked := a.histories[t]
	if !forked && !slices.ContainsFunc(a.runs, func(r catalog.Run) bool { return r.Timeline == t }) {
		return nil, problem.New(problem.Invalid, "See: velvet reach "+a.Cluster.Name, "the moment is out of reach",
			"nothing was captured of a timeline %d of %s", t, a.Cluster.Name)
	}
	other := *a
	other.Timeline, other.Ancestors = t, a.histories[t]
	return &other, nil
}

// Leads tells whether the way to the archive's timeline leads over a place of another.
func (a *Archive) Leads(t pg.Timeline, at pg.LSN) bool {
	return t == a.Timeline || slices.ContainsFunc(a.Ancestors, func(f pg.Fork) bool { return f.Timeline == t && at <= f.At })
}

// Parting is where the ways to the archive's timeline and to another part.
func (a *Archive) Parting(t pg.Timeline) (shared pg.Timeline, at pg.LSN) {
	end := func(way []pg.Fork, to pg.Timeline) []pg.Fork {
		return append(slices.Clone(way), pg.Fork{Timeline: to, At: ^pg.LSN(0)})
	}
	ours, theirs := end(a.Ancestors, a.Timeline), end(a.histories[t], t)
	i := pg.LastShared(ours, theirs)
	if i < 0 {
		return 0, 0
	}
	return ours[i].Timeline, min(ours[i].At, theirs[i].At)
}

// Histories gives the forks that lead to each timeline above 1, oldest first.
func (a *Archive) Histories() map[pg.Timeline][]pg.Fork { return a.histories }

// SegmentOf is the segment numbered n on the way to the newest timeline.
func (a *Archive) SegmentOf(n uint64) pg.Segment {
	return pg.Segment{Timeline: plan.TimelineOf(a.Cluster.SegmentSize, n, a.Timeline, a.Ancestors), Number: n}
}

// Reach computes the spans and holes of the cluster.
func (a *Archive) Reach() ([]reach.Span, []reach.Hole) {
	return reach.Compute(a.Known())
}

// Known gives what Reach is computed from.
func (a *Archive) Known() ([]reach.Base, []reach.WAL, []reach.Fork) {
	return a.Bases, a.stretches(a.Lost), a.forks
}

// Recorded gives what Reach would be computed from if no audit had found anything lost.
func (a *Archive) Recorded() ([]reach.Base, []reach.WAL, []reach.Fork) {
	return a.bases, a.stretches(inventory.Losses{}), a.forks
}

// stretches is the WAL that is there, in store and spool.
func (a *Archive) stretches(lost inventory.Losses) []reach.WAL {
	var stretches []reach.WAL
	for _, r := range a.runs {
		stretches = append(stretches, reach.WAL{Timeline: r.Timeline, Start: r.Start, End: r.End, LastCommit: r.LastCommit.Time})
	}
	_, stretches = lost.Without(nil, stretches, a.Cluster.SegmentSize) // what is in the spool still is read from there
	for _, t := range a.tails {
		w := reach.WAL{Timeline: t.Segment.Timeline, Start: a.Cluster.SegmentSize.Start(t.Segment.Number), End: t.End}
		if w.Timeline == a.Timeline {
			w.LastCommit = a.Capture.CompleteTo.Time
		}
		stretches = append(stretches, w)
	}
	return stretches
}

// Has tells whether a segment, or the beginning of one, is there, and no audit found it lost.
func (a *Archive) Has(s pg.Segment) bool {
	_, tail := a.tails[s]
	return tail || a.Stored(s) && !a.Lost.Has(s)
}

// Stored tells whether all that there is of a segment, whole or cut, is in the store.
func (a *Archive) Stored(s pg.Segment) bool {
	if _, tail := a.tails[s]; tail {
		return false
	}
	for _, r := range a.runs {
		if r.Timeline == s.Timeline && r.First <= s.Number && s.Number <= r.Last {
			return true
		}
	}
	return false
}

// Covers tells whether all WAL of a timeline from one place to another is there.
func (a *Archive) Covers(t pg.Timeline, from, to pg.LSN) bool {
	var stretches []reach.WAL
	for _, w := range a.stretches(a.Lost) {
		if w.Timeline == t {
			stretches = append(stretches, w)
		}
	}
	for _, w := range reach.Join(stretches) {
		if w.Start <= from && to <= w.End {
			return true
		}
	}
	return false
}

// Stretch is WAL segments that follow one another without a gap on the way to the
// newest timeline: the numbers of the first and the last, and where its bytes end.
type Stretch struct {
	First, Last uint64
	End         pg.LSN
}

// Stretches lists what there is on the way to the newest timeline, oldest first.
func (a *Archive) Stretches() []Stretch {
	var all []Stretch
	for seg, t := range a.tails {
		if a.SegmentOf(seg.Number) == seg {
			all = append(all, Stretch{seg.Number, seg.Number, t.End})
		}
	}
	for _, r := range a.runs {
		if s, ok := a.onPath(r); ok {
			all = append(all, a.readable(s)...)
		}
	}
	slices.SortFunc(all, func(x, y Stretch) int { return cmp.Or(cmp.Compare(x.First, y.First), cmp.Compare(x.End, y.End)) })
	var list []Stretch
	for _, s := range all {
		if n := len(list); n > 0 && list[n-1].End >= a.Cluster.SegmentSize.Start(s.First) {
			last := &list[n-1]
			last.Last, last.End = max(last.Last, s.Last), max(last.End, s.End)
			continue
		}
		list = append(list, s)
	}
	return list
}

// readable is what is left of a stretch without the segments whose records cannot be read.
func (a *Archive) readable(s Stretch) (parts []Stretch) {
	for _, u := range a.unreadable { // in order
		if u.Number < s.First || u.Number > s.Last || a.SegmentOf(u.Number) != u {
			continue
		}
		if u.Number > s.First {
			parts = append(parts, Stretch{s.First, u.Number - 1, a.Cluster.SegmentSize.Start(u.Number)})
		}
		s.First = u.Number + 1
	}
	if s.First <= s.Last {
		parts = append(parts, s)
	}
	return parts
}

// onPath is the part of a run that lies on the way to the newest timeline.
func (a *Archive) onPath(r catalog.Run) (Stretch, bool) {
	s := Stretch{r.First, r.Last, r.End}
	for s.First <= s.Last && a.SegmentOf(s.First).Timeline != r.Timeline {
		s.First++
	}
	for s.First <= s.Last && a.SegmentOf(s.Last).Timeline != r.Timeline {
		s.End = a.Cluster.SegmentSize.Start(s.Last)
		s.Last--
	}
	return s, s.First <= s.Last
}

// Spooled lists those of the given segments that are not in the store yet.
func (a *Archive) Spooled(segments []pg.Segment) []spool.Tail {
	var list []spool.Tail
	for _, s := range segments {
		if !a.Stored(s) {
			if t, ok := a.tails[s]; ok {
				list = append(list, t)
			}
		}
	}
	return list
}

// OpenSegment reads the bytes of a segment that are there; of a cut one only those.
func (a *Archive) OpenSegment(ctx context.Context, s pg.Segment) (io.ReadCloser, error) {
	t, tail := a.tails[s]
	if !tail {
		return a.Store.Segment(ctx, a.Cluster.ID, s, a.Cluster.SegmentSize)
	}
	var r io.ReadCloser
	r, err := t.Open()
	if errors.Is(err, os.ErrNotExist) { // it has gone to the store since, and may have grown before
		r, err = a.Store.Segment(ctx, a.Cluster.ID, s, a.Cluster.SegmentSize)
	}
	if err != nil {
		return nil, err
	}
	return limited{io.LimitReader(r, int64(t.End-a.Cluster.SegmentSize.Start(s.Number))), r}, nil
}

type limited struct {
	io.Reader
	io.Closer
}

// OutOfReach makes the error for a moment that cannot be restored, and names the
// moments that can.
func (a *Archive) OutOfReach(m fmt.Stringer, why string) error {
	spans, _ := a.Reach()
	next := "No moment of " + a.Cluster.Name + " can be reached yet."
	if len(spans) > 0 {
		next = "Within reach: " + describe(spans)
	}
	return problem.New(problem.OutOfReach, next, "the moment is out of reach", "%s: %s", m, why)
}

func describe(spans []reach.Span) string {
	s := ""
	for i, span := range spans {
		if i > 0 {
			s += "; "
		}
		s += fmt.Sprintf("%s (%s) to %s (%s) on timeline %d", span.FromTime.UTC().Format(time.RFC3339), span.From,
			span.ToTime.UTC().Format(time.RFC3339), span.To, span.Timeline)
	}
	return s
}
