// Package reach computes to which moments a cluster can be rewound: base backups
// and captured WAL become spans, and what is missing between them holes.
//
// Invariant: a span is only what can be restored with what is in the store (and, for the newest part, in the
// capture's spool): a base whose WAL is there without a gap from its start on. Nothing is assumed about what was not
// stored. What is in store and spool, and in which order holes are told, is the caller's to know and to say.
package reach

import (
	"cmp"
	"slices"
	"time"

	"velvetrewind/core/pg"
)

// Base is a complete base backup.
type Base struct {
	ID          string
	Timeline    pg.Timeline
	Start, Stop pg.LSN
	StopTime    time.Time
}

// WAL is a stretch of captured WAL: usually one segment, or part of one.
type WAL struct {
	Timeline   pg.Timeline
	Start, End pg.LSN
	// LastCommit is the newest commit time in the stretch, zero if it has none.
	LastCommit time.Time
}

// Fork is where a timeline left its parent.
type Fork struct {
	Timeline, Parent pg.Timeline
	At               pg.LSN
}

// Span is a stretch of one timeline that can be restored.
type Span struct {
	Timeline pg.Timeline
	Base     string // the oldest base backup that reaches into it
	From     pg.LSN
	To       pg.LSN
	FromTime time.Time
	ToTime   time.Time
}

// Hole is WAL that is missing between two captured stretches of a timeline, or where a
// timeline was left for a captured one.
type Hole struct {
	Timeline pg.Timeline
	From     pg.LSN
	To       pg.LSN
}

// Compute gives the spans and holes of one cluster, in the order of timeline and LSN.
func Compute(bases []Base, wal []WAL, forks []Fork) (spans []Span, holes []Hole) {
	runs := Join(wal)
	for i := 1; i < len(runs); i++ {
		if runs[i].Timeline == runs[i-1].Timeline {
			holes = append(holes, Hole{runs[i].Timeline, runs[i-1].End, runs[i].Start})
		}
	}
	bases = slices.SortedStableFunc(slices.Values(bases), func(a, b Base) int { return cmp.Compare(a.Stop, b.Stop) })
	forkOf := make(map[pg.Timeline]Fork, len(forks))
	for _, f := range forks {
		forkOf[f.Timeline] = f
	}
	holes = joinHoles(append(holes, atForks(runs, forkOf)...))
	for _, run := range runs { // a parent's timeline number is always the smaller one
		if s, ok := spanOf(run, bases, spans, forkOf); ok {
			spans = append(spans, s)
		}
	}
	return spans, holes
}

// atForks finds what is missing where a captured timeline left another: at the end of the
// parent, and at the beginning of the child. A timeline of which nothing was captured is missing from
// where it began to where the next was left for, if anything before it was captured.
func atForks(runs []WAL, forkOf map[pg.Timeline]Fork) (holes []Hole) {
	for i, child := range runs {
		f, ok := forkOf[child.Timeline]
		if !ok || i > 0 && runs[i-1].Timeline == child.Timeline {
			continue // only the first run of a timeline has to do with its fork
		}
		var missing []Hole
		if child.Start > f.At {
			missing = append(missing, Hole{f.Timeline, f.At, child.Start})
		}
		for ; ok; f, ok = forkOf[f.Parent] {
			if parent := lastBefore(runs, f.Parent, f.At); parent != nil {
				if parent.End < f.At {
					missing = append(missing, Hole{f.Parent, parent.End, f.At})
				}
				holes = append(holes, missing...)
				break
			}
			if up, ok := forkOf[f.Parent]; ok && up.At < f.At {
				missing = append(missing, Hole{f.Parent, up.At, f.At})
			}
		}
	}
	return holes
}

// lastBefore is the last run of a timeline that begins at or before a place; nil if there is none.
func lastBefore(runs []WAL, t pg.Timeline, at pg.LSN) (last *WAL) {
	for i := range runs {
		if r := &runs[i]; r.Timeline == t && r.Start <= at {
			last = r
		}
	}
	return last
}

// joinHoles sorts holes and makes one of those that overlap.
func joinHoles(holes []Hole) (joined []Hole) {
	slices.SortFunc(holes, func(a, b Hole) int {
		return cmp.Or(cmp.Compare(a.Timeline, b.Timeline), cmp.Compare(a.From, b.From))
	})
	for _, h := range holes {
		if n := len(joined); n > 0 && joined[n-1].Timeline == h.Timeline && h.From <= joined[n-1].To {
			joined[n-1].To = max(joined[n-1].To, h.To)
			continue
		}
		joined = append(joined, h)
	}
	return joined
}

// spanOf finds the earliest place from which run can be reached: where the
// parent's span ends in it, or after the first base that begins in it.
func spanOf(run WAL, bases []Base, earlier []Span, forkOf map[pg.Timeline]Fork) (Span, bool) {
	s := Span{Timeline: run.Timeline, To: run.End, ToTime: run.LastCommit}
	if f, ok := forkOf[run.Timeline]; ok && run.Start <= f.At && f.At <= run.End {
		for _, p := range earlier {
			if p.Timeline == f.Parent && p.From <= f.At && f.At <= p.To {
				s.Base, s.From, s.FromTime = p.Base, f.At, p.ToTime
				if s.ToTime.IsZero() {
					s.ToTime = s.FromTime
				}
				if s.ToTime.Before(s.FromTime) { // the parent went on when it had been left
					s.FromTime = s.ToTime
				}
				return s, true
			}
		}
	}
	for _, b := range bases {
		if b.Timeline == run.Timeline && run.Start <= b.Start && b.Stop <= run.End {
			s.Base, s.From, s.FromTime = b.ID, b.Stop, b.StopTime
			if s.ToTime.Before(s.FromTime) {
				s.ToTime = s.FromTime
			}
			return s, true
		}
	}
	return Span{}, false
}

// Join merges stretches of the same timeline that touch or overlap, and sorts them.
func Join(wal []WAL) []WAL {
	sorted := slices.SortedFunc(slices.Values(wal), func(a, b WAL) int {
		return cmp.Or(cmp.Compare(a.Timeline, b.Timeline), cmp.Compare(a.Start, b.Start))
	})
	var runs []WAL
	for _, w := range sorted {
		if n := len(runs); n > 0 && runs[n-1].Timeline == w.Timeline && w.Start <= runs[n-1].End {
			runs[n-1].End = max(runs[n-1].End, w.End)
			if w.LastCommit.After(runs[n-1].LastCommit) {
				runs[n-1].LastCommit = w.LastCommit
			}
			continue
		}
		runs = append(runs, w)
	}
	return runs
}
