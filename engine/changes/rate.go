package changes

import (
	"context"
	"time"

	"velvetrewind/core/journal"
)

// Rate is what was committed within a span of time.
type Rate struct {
	From         time.Time
	Transactions int64
	Counts       journal.Counts // of users' tables
}

// finest is how many segments are read transaction by transaction for one answer;
// what lies in others is spread evenly over the time that they took.
const finest = 24

// Rates divides a span of time into equal parts and counts what was committed in each.
func (j *Journal) Rates(ctx context.Context, from, to time.Time, parts int) ([]Rate, error) {
	r := rates{list: make([]Rate, parts), from: from, step: max(1, to.Sub(from)/time.Duration(parts))}
	for i := range r.list {
		r.list[i].From = from.Add(time.Duration(i) * r.step)
	}
	late := j.book.Now()
	var split []uint64
	take := func(h *journal.Head) (whole bool) {
		first, last := r.part(h.Earliest), r.part(h.Latest)
		switch {
		case h.Commits == 0 || last < 0 || first >= parts:
			return true
		case first == last:
			r.list[first].add(h, late, 1)
			return true
		}
		return false
	}
	err := j.all(ctx, take, func(h *journal.Head) (bool, error) {
		switch {
		case take(h):
		case len(split) < finest:
			split = append(split, h.Segment.Number)
		default:
			r.spread(h, late, r.part(h.Earliest), r.part(h.Latest))
		}
		return true, nil
	})
	if err != nil {
		return nil, err
	}
	for _, n := range split {
		if err := j.rateOf(ctx, n, &r); err != nil {
			return nil, err
		}
	}
	return r.list, nil
}

func (j *Journal) rateOf(ctx context.Context, n uint64, r *rates) error {
	s, err := j.segment(ctx, n)
	if err != nil {
		return err
	}
	for t, err := range s.Transactions() {
		if err != nil {
			return err
		}
		i := r.part(t.Time)
		if !t.Committed || i < 0 || i >= len(r.list) {
			continue
		}
		r.list[i].Transactions++
		for _, c := range j.entry(s, t).Tables {
			if !c.System() {
				for k, n := range c.Counts {
					r.list[i].Counts[k] += n
				}
			}
		}
	}
	return nil
}

type rates struct {
	list []Rate
	from time.Time
	step time.Duration
}

// part is the number of the part that a time lies in; outside it is below 0 or beyond the last.
func (r *rates) part(t time.Time) int {
	if t.Before(r.from) {
		return -1
	}
	return int(min(t.Sub(r.from)/r.step, time.Duration(len(r.list))))
}

// spread divides what a segment's head tells evenly over parts.
func (r *rates) spread(h *journal.Head, late journal.Lookup, first, last int) {
	for i := max(first, 0); i <= min(last, len(r.list)-1); i++ {
		r.list[i].add(h, late, int64(last-first+1))
	}
}

// add counts the given part of a segment's changes.
func (r *Rate) add(h *journal.Head, late journal.Lookup, share int64) {
	r.Transactions += h.Commits / share
	for i := range h.Tables {
		s := &h.Tables[i]
		n := s.Name
		if !s.Known {
			n, _ = late(s.File)
		}
		if n.System() {
			continue
		}
		for k, count := range s.Sum {
			r.Counts[k] += count / share
		}
	}
}
