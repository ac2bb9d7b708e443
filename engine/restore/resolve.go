package restore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/reach"
	"velvetrewind/core/wal"
	"velvetrewind/engine/problem"
)

// settle is how long after a commit's time its record may still come: the time is
// taken before the record is written and sent. Only what is older than the
// capture's completeness by this much counts as known.
const settle = 2 * time.Second

// Plan resolves a moment and works out the restore.
func (a *Archive) Plan(ctx context.Context, m moment.Moment) (plan.Restore, error) {
	if len(a.Bases) == 0 {
		return plan.Restore{}, problem.New(problem.OutOfReach, "Take one with: velvet backup take "+a.Cluster.Name,
			"the moment is out of reach", "%s has no base backup yet", a.Cluster.Name)
	}
	if m.Kind == moment.AtTime && !a.anyBaseBy(m.Time) {
		return plan.Restore{}, a.outOfReach(m, "it lies before the end of the first base backup")
	}
	b, err := a.resolve(ctx, m)
	if err != nil {
		return plan.Restore{}, err
	}
	p, err := plan.Make(b, a.Bases, a.Ancestors, a.Cluster.SegmentSize, a.Has)
	var impossible *plan.Impossible
	if errors.As(err, &impossible) {
		return p, a.outOfReach(m, impossible.Reason)
	}
	return p, err
}

// resolve searches the WAL for the moment. A transaction may lie behind a hole, so
// that each stretch is searched, the newest first.
func (a *Archive) resolve(ctx context.Context, m moment.Moment) (b moment.Boundary, err error) {
	var end pg.LSN
	for _, from := range a.searchFrom(m) {
		b, end, err = a.search(ctx, m, from)
		if !errors.Is(err, moment.ErrBeyond) {
			break
		}
	}
	var undone *moment.RolledBack
	switch {
	case errors.Is(err, moment.ErrBeyond):
		return b, a.outOfReach(m, a.beyond(m, end))
	case errors.As(err, &undone):
		return b, problem.New(problem.OutOfReach, fmt.Sprintf("Ask for the time instead: %s", undone.Time.Format(time.RFC3339Nano)),
			"the moment names no committed transaction", "%v", undone)
	case err == nil && b.End == 0:
		return b, a.outOfReach(m, "it lies before the first base backup")
	}
	b.Timeline = a.Timeline
	return b, err
}

// search shows the records from a place on to a search, and says how far they reach.
func (a *Archive) search(ctx context.Context, m moment.Moment, from pg.LSN) (moment.Boundary, pg.LSN, error) {
	search := moment.NewSearch(m)
	z := a.Cluster.SegmentSize
	r := &walk{archive: a, ctx: ctx, next: z.Number(from)}
	defer r.close()
	records := wal.NewReader(r, wal.Options{Start: z.Start(r.next), SegmentSize: z, SystemID: a.Cluster.SystemID})
	for {
		rec, err := records.Next()
		if errors.Is(err, io.EOF) || errors.Is(err, wal.ErrUnwritten) {
			break
		}
		if err != nil {
			return moment.Boundary{}, 0, err
		}
		done, err := search.See(rec, records.Version())
		if err != nil {
			return moment.Boundary{}, 0, err
		}
		if done {
			break
		}
	}
	b, err := search.Result(a.Capture.CompleteTo.Time.Add(-settle))
	return b, records.Position(), err
}

func (a *Archive) beyond(m moment.Moment, end pg.LSN) string {
	if m.Kind == moment.Transaction {
		return fmt.Sprintf("no end of transaction %d is in the captured WAL, which reaches to %s: it lies before the first base backup, is still open, or has not been captured yet", m.XID, end)
	}
	return fmt.Sprintf("it lies beyond the captured WAL, which reaches to %s", end)
}

// anyBaseBy tells whether a base backup had ended by a time. Without one the first
// commit that is found later would be taken for the moment's.
func (a *Archive) anyBaseBy(t time.Time) bool {
	for _, b := range a.Bases {
		if !b.StopTime.After(t) {
			return true
		}
	}
	return false
}

// searchFrom gives the places from which to search: for a transaction the beginning
// of each stretch of the reach, the newest first; else the start of the newest base
// that surely ends before the moment, so that no more WAL is read than needed.
func (a *Archive) searchFrom(m moment.Moment) []pg.LSN {
	if m.Kind == moment.Transaction {
		return a.spanStarts()
	}
	best, oldest := pg.LSN(0), pg.LSN(0)
	for _, b := range a.Bases {
		if oldest == 0 || b.Start < oldest {
			oldest = b.Start
		}
		var before bool
		switch m.Kind {
		case moment.Latest:
			before = true
		case moment.AtTime:
			before = b.StopTime.Add(settle).Before(m.Time)
		case moment.AtLSN:
			before = b.Stop < m.LSN
		}
		if before && b.Start > best {
			best = b.Start
		}
	}
	if best == 0 {
		best = oldest
	}
	return []pg.LSN{best}
}

// spanStarts gives where the oldest base of each span of the reach starts, newest first.
func (a *Archive) spanStarts() []pg.LSN {
	spans, _ := a.Reach()
	var starts []pg.LSN
	for _, s := range slices.Backward(spans) {
		for _, b := range a.Bases {
			if b.ID == s.Base && !slices.Contains(starts, b.Start) {
				starts = append(starts, b.Start)
			}
		}
	}
	return starts
}

// outOfReach names the nearest moments that can be reached.
func (a *Archive) outOfReach(m moment.Moment, why string) error {
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
		s += fmt.Sprintf("%s (%s) to %s (%s) on timeline %d", span.FromTime.UTC().Format(time.RFC3339), span.From, span.ToTime.UTC().Format(time.RFC3339), span.To, span.Timeline)
	}
	return s
}

// walk reads the segments on the way to the newest timeline as one stream.
type walk struct {
	archive *Archive
	ctx     context.Context
	next    uint64
	current io.ReadCloser
	length  int64
}

func (w *walk) Read(p []byte) (int, error) {
	for {
		if w.current == nil {
			if err := w.open(); err != nil {
				return 0, err
			}
		}
		n, err := w.current.Read(p)
		w.length += int64(n)
		if n > 0 {
			return n, nil
		}
		if !errors.Is(err, io.EOF) {
			return 0, err
		}
		if w.length < int64(w.archive.Cluster.SegmentSize) {
			return 0, io.EOF // a cut segment is the last
		}
		w.close()
	}
}

func (w *walk) open() error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	seg := pg.Segment{Timeline: w.archive.timelineOf(w.next), Number: w.next}
	if !w.archive.Has(seg) {
		return io.EOF
	}
	r, err := w.archive.OpenSegment(w.ctx, seg)
	if err != nil {
		return fmt.Errorf("segment %s: %w", seg.Name(w.archive.Cluster.SegmentSize), err)
	}
	w.current, w.length = r, 0
	w.next++
	return nil
}

func (w *walk) close() {
	if w.current != nil {
		_ = w.current.Close()
		w.current = nil
	}
}

// timelineOf is the timeline in whose file segment n is read on the way to the newest timeline.
func (a *Archive) timelineOf(n uint64) pg.Timeline {
	return plan.TimelineOf(a.Cluster.SegmentSize, n, a.Timeline, a.Ancestors)
}
