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
	err := j.heads(ctx, j.archive.Cluster.SegmentSize.Number(b.Stop), ^uint64(0), func(h *journal.Head) (bool, error) {
		switch {
		case h.Commits == 0 || b.Keeps(h.Last.LSN):
		case !b.Keeps(h.First.LSN):
			cost.AddSegment(h, late)
		default:
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
