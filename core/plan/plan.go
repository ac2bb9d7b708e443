// Package plan works out what a restore will do before it is done: which base
// it begins with and which WAL segments it replays.
//
// Invariant: a plan names only things that the caller said are there; where something is missing there is no plan but
// an *Impossible that says what. Resolving the moment, and carrying the plan out, is left to others.
package plan

import (
	"fmt"

	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

// Restore is a plan.
type Restore struct {
	Boundary moment.Boundary `json:"boundary"`
	Base     string          `json:"base"`  // id of the base backup it begins with
	Start    pg.LSN          `json:"start"` // where replay begins
	First    string          `json:"firstSegment"`
	Last     string          `json:"lastSegment"`
	Count    int             `json:"segments"`    // how many WAL segments are replayed
	Replay   int64           `json:"replayBytes"` // bytes of WAL to replay
}

// Impossible says why there is no plan.
type Impossible struct{ Reason string }

func (e *Impossible) Error() string { return e.Reason }

// Make chooses the newest base that ends at or before the boundary, and lists the
// segments from its start to the boundary. ancestors are the forks of the
// boundary's timeline, oldest first; have tells whether a segment is there.
func Make(b moment.Boundary, bases []reach.Base, ancestors []pg.Fork, z pg.SegmentSize, have func(pg.Segment) bool) (Restore, error) {
	var best *reach.Base
	for i := range bases {
		base := &bases[i]
		if !onPath(base, b, ancestors) {
			continue
		}
		if base.Stop <= b.End && (best == nil || base.Stop > best.Stop) {
			best = base
		}
	}
	if best == nil {
		return Restore{}, &Impossible{Reason: fmt.Sprintf("no base backup ends at or before %s on the way to timeline %d",
			b.End, b.Timeline)}
	}
	p := Restore{Boundary: b, Base: best.ID, Start: best.Start, Replay: int64(b.End - best.Start)}
	segments := p.Segments(ancestors, z)
	for _, s := range segments {
		if !have(s) {
			return Restore{}, &Impossible{Reason: fmt.Sprintf("WAL segment %s is missing or damaged, and a restore from base %s to %s "+
				"needs it", s.Name(z), best.ID, b.End)}
		}
	}
	p.Count, p.First, p.Last = len(segments), segments[0].Name(z), segments[len(segments)-1].Name(z)
	return p, nil
}

// Segments lists the segments that the plan replays, in order: at least one.
func (p Restore) Segments(ancestors []pg.Fork, z pg.SegmentSize) []pg.Segment {
	var list []pg.Segment
	for n := z.Number(p.Start); n <= z.Number(lastByte(p.Boundary)); n++ {
		list = append(list, pg.Segment{Timeline: TimelineOf(z, n, p.Boundary.Timeline, ancestors), Number: n})
	}
	return list
}

// lastByte is a byte of the last segment that replay must read: to stop before a
// record the server has to see that record's beginning.
func lastByte(b moment.Boundary) pg.LSN {
	if b.Inclusive && b.End > b.Stop {
		return b.End - 1
	}
	return b.Stop
}

// onPath tells whether the base lies on the boundary's timeline or before the fork on an ancestor.
func onPath(base *reach.Base, b moment.Boundary, ancestors []pg.Fork) bool {
	if base.Timeline == b.Timeline {
		return true
	}
	for _, f := range ancestors {
		if f.Timeline == base.Timeline {
			return base.Stop <= f.At
		}
	}
	return false
}

// TimelineOf is the timeline whose file recovery reads for segment n: the newest
// one that had begun in or before it.
func TimelineOf(z pg.SegmentSize, n uint64, target pg.Timeline, ancestors []pg.Fork) pg.Timeline {
	for _, f := range ancestors {
		if n < z.Number(f.At) {
			return f.Timeline
		}
	}
	return target
}
