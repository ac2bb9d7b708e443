// Package reach computes to which moments a cluster can be rewound: base backups
// and captured WAL become spans, and what is missing between them holes.
//
// Invariant: a span is only what can be restored with what is in the store (and,
// for the newest part, in the capture's spool): a base whose WAL is there without
// a gap from its start on. Nothing is assumed about what was not stored.
package reach

import (
	"sort"
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
	Timeline pg.Timeline `json:"timeline"`
	Base     string      `json:"base" doc:"the oldest base backup that reaches into it"`
	From     pg.LSN      `json:"from"`
	To       pg.LSN      `json:"to"`
	FromTime time.Time   `json:"fromTime"`
	ToTime   time.Time   `json:"toTime"`
}

// Hole is WAL that is missing between two captured stretches of a timeline, or where a
// timeline was left for a captured one.
type Hole struct {
	Timeline pg.Timeline `json:"timeline"`
	From     pg.LSN      `json:"from"`
	To       pg.LSN      `json:"to"`
}

// Compute gives the spans and holes of one cluster, in the order of timeline and LSN.
func Compute(bases []Base, wal []WAL, forks []Fork) (spans []Span, holes []Hole) {
	runs := Join(wal)
	for i := 1; i < len(runs); i++ {
		if runs[i].Timeline == runs[i-1].Timeline {
			holes = append(holes, Hole{runs[i].Timeline, runs[i-1].End, runs[i].Start})
		}
	}
	sort.Slice(bases, func(i, j int) bool { return bases[i].Stop < bases[j].Stop })
	forkOf := make(map[pg.Timeline]Fork, len(forks))
	for _, f := range forks {
		forkOf[f.Timeline] = f
	}
	holes = append(holes, atForks(runs, forks)...)
	sort.Slice(holes, func(i, j int) bool {
		return holes[i].Timeline < holes[j].Timeline || holes[i].Timeline == holes[j].Timeline && holes[i].From < holes[j].From
	})
	for _, run := range runs { // a parent's timeline number is always the smaller one
		if s, ok := spanOf(run, bases, spans, forkOf); ok {
			spans = append(spans, s)
		}
	}
	return spans, holes
}

// atForks finds what is missing where a captured timeline left another: at the end of the
// parent, and at the beginning of the child.
func atForks(runs []WAL, forks []Fork) (holes []Hole) {
	for _, f := range forks {
		var parent, child *WAL
		for i := range runs {
			switch r := &runs[i]; {
			case r.Timeline == f.Parent && r.Start <= f.At:
				parent = r // the last one that begins before the fork
			case r.Timeline == f.Timeline && child == nil:
				child = r
			}
		}
		if child == nil || parent == nil {
			continue // nothing was captured there, so that nothing is missing either
		}
		if parent.End < f.At {
			holes = append(holes, Hole{f.Parent, parent.End, f.At})
		}
		if child.Start > f.At {
			holes = append(holes, Hole{f.Timeline, f.At, child.Start})
		}
	}
	return holes
}

// spanOf finds the earliest place from which run can be reached: where the
// parent's span ends in it, or behind the first base that begins in it.
func spanOf(run WAL, bases []Base, earlier []Span, forkOf map[pg.Timeline]Fork) (Span, bool) {
	s := Span{Timeline: run.Timeline, To: run.End, ToTime: run.LastCommit}
	if f, ok := forkOf[run.Timeline]; ok && run.Start <= f.At && f.At <= run.End {
		for _, p := range earlier {
			if p.Timeline == f.Parent && p.From <= f.At && f.At <= p.To {
				s.Base, s.From, s.FromTime = p.Base, f.At, p.ToTime
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
	sorted := append([]WAL(nil), wal...)
	sort.Slice(sorted, func(i, j int) bool {
		if sorted[i].Timeline != sorted[j].Timeline {
			return sorted[i].Timeline < sorted[j].Timeline
		}
		return sorted[i].Start < sorted[j].Start
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
