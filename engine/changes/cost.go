package changes

import (
	"context"

	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
)

// Cost is what going back to a boundary would throw away of what is captured.
func (j *Journal) Cost(ctx context.Context, b moment.Boundary) (journal.Cost, error) {
	var cost journal.Cost
	late := j.book.Now()
	take := func(h *journal.Head) (whole bool) {
		switch {
		case h.Commits == 0 || b.Keeps(h.Last.LSN):
			return true
		case !b.Keeps(h.First.LSN):
			cost.AddSegment(h, late)
			return true
		}
		return false
	}
	err := j.scan(ctx, j.archive.Cluster.SegmentSize.Number(b.Stop), ^uint64(0), take, func(h *journal.Head) (bool, error) {
		if !take(h) {
			s, err := j.segment(ctx, h.Segment.Number)
			if err != nil {
				return false, err
			}
			for t, err := range s.Transactions() {
				if err != nil {
					return false, err
				}
				if !b.Keeps(t.End) {
					e := j.entry(s, t)
					cost.AddTransaction(&e.Transaction, e.Tables)
				}
			}
		}
		return true, nil
	})
	cost.Sort()
	return cost, err
}
