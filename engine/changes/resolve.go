package changes

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/reach"
	"velvetrewind/core/wal"
)

// Settle is how long after a commit's time its record may still come: the time is
// taken before the record is written and sent. Only what is older than the capture's
// completeness by this much counts as known.
const Settle = 2 * time.Second

// place is where a moment lies: an LSN, and whether what begins there is out.
type place struct {
	lsn    pg.LSN
	before bool
}

// Resolve finds the boundary that a moment means. note tells, where the moment left a
// choice, what was chosen over what; else it is "".
func (j *Journal) Resolve(ctx context.Context, m moment.Moment) (b moment.Boundary, note string, err error) {
	if len(j.stretches) == 0 {
		return b, "", j.archive.OutOfReach(m, "no WAL has been captured yet")
	}
	p, note, err := j.locate(ctx, m)
	if err != nil {
		return b, "", err
	}
	if b, err = j.boundary(ctx, m, p); err != nil || b.Inclusive || b.FirstOut == nil || b.FirstOut.LSN != p.lsn {
		return b, note, err
	}
	more, err := j.clearOfLocks(ctx, m, &b)
	return b, joined(note, more), err
}

func joined(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
}

// clearOfLocks moves a boundary in front of a transaction's commit back to its first
// record, where nothing was committed in between: it is the same moment, and replay
// then does not stand in the middle of a transaction that holds tables exclusively,
// which nobody could read in a paused copy. Where that cannot be, the note says so.
func (j *Journal) clearOfLocks(ctx context.Context, m moment.Moment, b *moment.Boundary) (note string, err error) {
	s, err := j.segmentOf(ctx, b.FirstOut)
	if err != nil || s == nil {
		return "", err
	}
	for t, err := range s.Transactions() {
		if err != nil {
			return "", err
		}
		if t.End != b.FirstOut.LSN {
			continue
		}
		if len(t.Created)+len(t.Dropped)+len(t.Truncated)+len(t.DroppedDatabases)+len(t.Altered) == 0 || t.First >= b.Stop {
			return "", nil
		}
		if b.LastIn != nil && b.LastIn.LSN > t.First {
			return fmt.Sprintf("others committed while tx %d held tables exclusively: a copy paused here cannot read those until it is "+
				"opened", t.XID), nil
		}
		earlier, err := j.boundary(ctx, m, place{t.First, true})
		if err != nil || earlier.FirstOut == nil || earlier.FirstOut.LSN != b.FirstOut.LSN {
			return "", nil
		}
		if !j.reaches(earlier.Stop) && j.reaches(b.Stop) {
			return fmt.Sprintf("tx %d held tables exclusively before a base backup ended: a copy paused here cannot read those until it "+
				"is opened", t.XID), nil
		}
		*b = earlier
		return "", nil
	}
	return "", nil
}

// reaches tells whether a base backup leads to a place on the newest timeline.
func (j *Journal) reaches(at pg.LSN) bool {
	spans, _ := j.archive.Reach()
	return slices.ContainsFunc(spans, func(s reach.Span) bool { return s.Timeline == j.archive.Timeline && s.From <= at && at <= s.To })
}

// segmentOf reads the journal of the segment in which a commit record ends.
func (j *Journal) segmentOf(ctx context.Context, c *journal.Commit) (found *journal.Segment, err error) {
	n := j.archive.Cluster.SegmentSize.Number(c.LSN)
	err = j.heads(ctx, n, n+1, func(h *journal.Head) (bool, error) {
		if h.Commits == 0 || c.LSN < h.First.LSN || c.LSN > h.Last.LSN {
			return true, nil
		}
		found, err = j.segment(ctx, h.Segment.Number)
		return false, err
	})
	return found, err
}

// locate turns every form of moment into a place.
func (j *Journal) locate(ctx context.Context, m moment.Moment) (p place, note string, err error) {
	switch m.Kind {
	case moment.AtTime:
		p, err = j.byTime(ctx, m)
	case moment.Transaction:
		p, err = j.byTransaction(ctx, m)
	case moment.AtLSN:
		p = place{m.LSN, m.Before}
	case moment.AtRestorePoint:
		p, err = j.byRestorePoint(ctx, m)
	case moment.AtBase:
		p, err = j.byBase(m)
	case moment.BeforeOperation:
		return j.byOperation(ctx, m)
	default:
		p, err = j.end(ctx)
	}
	return p, "", err
}

// end is after the last whole record.
func (j *Journal) end(ctx context.Context) (place, error) {
	s := j.stretches[len(j.stretches)-1]
	state, err := j.lastState(ctx)
	// The rest of a segment after a switch is not needed, and may not have come yet.
	return place{min(state.Next, s.End), true}, err
}

// lastState is the state in which the journal stands at the end of what was captured, also within a
// segment.
func (j *Journal) lastState(ctx context.Context) (journal.State, error) {
	s, err := j.segment(ctx, j.stretches[len(j.stretches)-1].Last)
	if err != nil {
		return journal.State{}, err
	}
	return s.State, nil
}

// byTime finds the first commit that is later than the time, after the newest base
// that surely ended before it.
func (j *Journal) byTime(ctx context.Context, m moment.Moment) (place, error) {
	from, ok := j.baseBefore(m.Time)
	if !ok {
		return place{}, j.archive.OutOfReach(m, "it lies before the end of the first base backup")
	}
	stretch, ok := j.stretchOf(from)
	if !ok {
		return place{}, j.archive.OutOfReach(m, "the WAL after the base backup before it is missing")
	}
	first := j.archive.Cluster.SegmentSize.Number(from)
	var found *pg.LSN
	earlier := func(h *journal.Head) bool { return h.Commits == 0 || !h.Latest.After(m.Time) }
	err := j.scan(ctx, first, stretch.Last, earlier, func(h *journal.Head) (bool, error) {
		if earlier(h) {
			return true, nil
		}
		s, err := j.segment(ctx, h.Segment.Number)
		if err != nil {
			return false, err
		}
		for t, err := range s.Transactions() {
			if err != nil {
				return false, err
			}
			if t.Committed && t.End >= from && t.Time.After(m.Time) {
				found = &t.End
				return false, nil
			}
		}
		return true, nil
	})
	switch {
	case err != nil:
		return place{}, err
	case found != nil:
		return place{*found, true}, nil
	case stretch != j.stretches[len(j.stretches)-1]:
		return place{}, j.archive.OutOfReach(m, fmt.Sprintf("it lies in a hole: the WAL after %s was never captured", stretch.End))
	case m.Time.After(j.archive.Capture.CompleteTo.Time.Add(-Settle)):
		return place{}, j.archive.OutOfReach(m, fmt.Sprintf("it lies beyond the captured WAL, which is surely complete to %s and no "+
			"further yet", j.archive.Capture.CompleteTo.Time.Add(-Settle).UTC().Format(time.RFC3339)))
	}
	return j.end(ctx)
}

// baseBefore is the start of the newest base that surely ended before a time, or else
// of the oldest that may have.
func (j *Journal) baseBefore(t time.Time) (start pg.LSN, ok bool) {
	var sure pg.LSN
	for _, b := range j.archive.Bases {
		if b.StopTime.After(t) {
			continue
		}
		if !ok || b.Start < start {
			start, ok = b.Start, true
		}
		if b.StopTime.Add(Settle).Before(t) {
			sure = max(sure, b.Start)
		}
	}
	return max(start, sure), ok
}

// byTransaction finds the record by which a transaction ended.
func (j *Journal) byTransaction(ctx context.Context, m moment.Moment) (place, error) {
	found, err := j.ByXID(ctx, m.XID)
	switch {
	case err != nil:
		return place{}, err
	case len(found) == 0:
		return place{}, j.archive.OutOfReach(m, j.Missing(ctx, m.XID))
	case len(found) > 1:
		return place{}, j.ambiguous(ctx, m, fmt.Sprintf("the id %d was used in %d epochs", m.XID, len(found)), found)
	case !found[0].Committed:
		t := found[0]
		return place{}, problem.New(problem.OutOfReach, fmt.Sprintf("Ask for the place instead: before lsn %s", t.End),
			"the moment names no committed transaction",
			"transaction %d was rolled back at %s: nothing of it is in the database at any moment", m.XID, t.Time.Format(time.RFC3339Nano))
	}
	return place{found[0].End, m.Before}, nil
}

// Missing says why no end of a transaction is known.
func (j *Journal) Missing(ctx context.Context, x pg.FullXID) string {
	if len(j.stretches) == 0 {
		return "no WAL has been captured yet"
	}
	for _, o := range j.Open() {
		if o.XID == pg.XID(x) && o.Prepared {
			return fmt.Sprintf("transaction %d was prepared as %q and is neither committed nor rolled back yet", x, o.GID)
		}
		if o.XID == pg.XID(x) {
			return fmt.Sprintf("transaction %d is still open: it has written since %s and not ended", x, o.First)
		}
	}
	state, err := j.lastState(ctx)
	if err == nil && x >= 1<<32 && x >= state.NextXID || x < 1<<32 && pg.XID(state.NextXID).Precedes(pg.XID(x)) {
		return fmt.Sprintf("transaction %d has not begun: the newest that is known is %d", x, state.NextXID-1)
	}
	return fmt.Sprintf("no end of transaction %d is in the captured WAL: it lies before it or in a hole, or it changed nothing", x)
}

func (j *Journal) byRestorePoint(ctx context.Context, m moment.Moment) (place, error) {
	all, err := j.RestorePoints(ctx)
	if err != nil {
		return place{}, err
	}
	var found []journal.RestorePoint
	for _, k := range all {
		if k.Name == m.Name {
			found = append(found, k)
		}
	}
	switch len(found) {
	case 1:
		return place{found[0].LSN, false}, nil
	case 0:
		next := "No restore point is in the captured WAL. One is made with: select pg_create_restore_point('name')"
		if len(all) > 0 {
			next = "Known are:"
			for _, k := range all[max(0, len(all)-listed):] {
				next += fmt.Sprintf("\nrestore point %s  (%s)", k.Name, k.Time.Format(time.RFC3339Nano))
			}
		}
		return place{}, problem.New(problem.NotFound, next, "the moment was not found", "no restore point %q is in the captured WAL",
			m.Name)
	}
	next := "Choose one:"
	for _, k := range found {
		next += fmt.Sprintf("\nlsn %s  (%s)", k.LSN, k.Time.Format(time.RFC3339Nano))
	}
	return place{}, problem.New(problem.Ambiguous, next, "the moment is ambiguous", "%d restore points are called %q", len(found), m.Name)
}

func (j *Journal) byBase(m moment.Moment) (place, error) {
	var meant []string // by its whole id, or by a beginning or end of it
	for _, b := range j.archive.Bases {
		if b.ID == m.Name {
			return place{b.Stop, true}, nil
		}
		if part := strings.ToLower(m.Name); len(part) >= 4 && (strings.HasPrefix(b.ID, part) || strings.HasSuffix(b.ID, part)) {
			meant = append(meant, b.ID)
		}
	}
	if len(meant) == 1 {
		return j.byBase(moment.Moment{Kind: m.Kind, Name: meant[0]})
	}
	if len(meant) > 1 {
		return place{}, problem.New(problem.Ambiguous, "Choose one:\nbase "+strings.Join(meant, "\nbase "), "the moment is ambiguous",
			"%d base backups have ids that begin or end with %q", len(meant), m.Name)
	}
	if slices.Contains(j.archive.Lost.Backups, m.Name) {
		return place{}, j.archive.OutOfReach(m, "the base backup cannot be read, as an audit found; see: velvet store audit --full")
	}
	return place{}, problem.New(problem.NotFound, "List them with: velvet backup list "+j.archive.Cluster.Name, "the moment was not found",
		"%s has no base backup %q", j.archive.Cluster.Name, m.Name)
}

// boundary finds the records on both sides of a place, and the transactions.
func (j *Journal) boundary(ctx context.Context, m moment.Moment, p place) (moment.Boundary, error) {
	b := moment.Boundary{Moment: m.String(), Timeline: j.archive.Timeline}
	stretch, ok := j.stretchOf(p.lsn)
	if !ok {
		return b, j.archive.OutOfReach(m, j.outside(p.lsn))
	}
	n := min(j.archive.Cluster.SegmentSize.Number(p.lsn), stretch.Last)
	before, err := j.before(ctx, n)
	if err != nil {
		return b, err
	}
	border := moment.NewBorder(p.lsn, p.before, before.Prev, before.Next)
	if err := j.walk(ctx, n, stretch.Last, before, border); err != nil {
		return b, err
	}
	if b.Stop, b.Inclusive, b.End, ok = border.Result(); !ok {
		return b, j.archive.OutOfReach(m, j.outside(p.lsn))
	}
	if b.LastIn, err = j.lastIn(ctx, &b); err != nil {
		return b, err
	}
	b.FirstOut, err = j.firstOut(ctx, &b)
	return b, err
}

func (j *Journal) outside(l pg.LSN) string {
	z := j.archive.Cluster.SegmentSize
	for i, s := range j.stretches {
		if l >= z.Start(s.First) {
			continue
		}
		if i == 0 {
			return fmt.Sprintf("it lies before the captured WAL, which begins at %s", z.Start(s.First))
		}
		return fmt.Sprintf("it lies in a hole: the WAL from %s to %s was never captured", j.stretches[i-1].End, z.Start(s.First))
	}
	return fmt.Sprintf("it lies beyond the captured WAL, which reaches to %s", j.stretches[len(j.stretches)-1].End)
}

// walk shows records to a border, from the segment numbered n on.
func (j *Journal) walk(ctx context.Context, n, last uint64, before journal.State, border *moment.Border) error {
	src, records := j.records(ctx, n, last, before)
	defer func() { _ = src.Close() }()
	for {
		r, err := records.Next()
		var damage *wal.Damage
		if errors.Is(err, io.EOF) || errors.Is(err, wal.ErrUnwritten) || errors.As(err, &damage) &&
			damage.LSN >= j.archive.Capture.FlushedLSN {
			return nil
		}
		if err != nil {
			return err
		}
		if border.See(r) {
			return nil
		}
	}
}

// lastIn is the last transaction that a boundary keeps, if the journal knows one.
func (j *Journal) lastIn(ctx context.Context, b *moment.Boundary) (*journal.Commit, error) {
	n := j.archive.Cluster.SegmentSize.Number(b.Stop)
	for end := n + 1; ; {
		first := end / journal.ChapterSize * journal.ChapterSize
		if end == n+1 {
			first = max(n, 1) - 1 // a commit record may go over the border
		}
		var last *journal.Head
		var own journal.Head
		err := j.heads(ctx, first, end, func(h *journal.Head) (bool, error) {
			if h.Commits > 0 && b.Keeps(h.First.LSN) {
				own = *h
				last = &own
			}
			return true, nil
		})
		if err != nil {
			return nil, err
		}
		if last != nil {
			return j.lastKept(ctx, last, b)
		}
		if first == 0 || first <= j.stretches[0].First {
			return nil, nil
		}
		end = first - 1
	}
}

func (j *Journal) lastKept(ctx context.Context, h *journal.Head, b *moment.Boundary) (*journal.Commit, error) {
	if b.Keeps(h.Last.LSN) {
		c := h.Last
		return &c, nil
	}
	s, err := j.segment(ctx, h.Segment.Number)
	if err != nil {
		return nil, err
	}
	var last *journal.Commit
	for t, err := range s.Transactions() {
		if err != nil {
			return nil, err
		}
		if !b.Keeps(t.End) {
			break
		}
		if t.Committed {
			last = &journal.Commit{XID: t.XID, LSN: t.End, Time: t.Time}
		}
	}
	return last, nil
}

// firstOut is the first transaction that a boundary undoes, if there is one.
func (j *Journal) firstOut(ctx context.Context, b *moment.Boundary) (first *journal.Commit, err error) {
	err = j.heads(ctx, j.archive.Cluster.SegmentSize.Number(b.Stop), ^uint64(0), func(h *journal.Head) (bool, error) {
		if h.Commits == 0 || b.Keeps(h.Last.LSN) {
			return true, nil
		}
		s, err := j.segment(ctx, h.Segment.Number)
		if err != nil {
			return false, err
		}
		for t, err := range s.Transactions() {
			if err != nil {
				return false, err
			}
			if t.Committed && !b.Keeps(t.End) {
				first = &journal.Commit{XID: t.XID, LSN: t.End, Time: t.Time}
				return false, nil
			}
		}
		return true, nil
	})
	return first, err
}
