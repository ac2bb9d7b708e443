package changes

import (
	"context"
	"time"

	"velvetrewind/core/journal"
)

// Marked is a transaction that a rule marks, and why.
type Marked struct {
	Entry
	Why []journal.Incident
}

// Marked gives the transactions committed since a time that a rule marks: up to limit of them, newest first; more tells
// whether there are others. What share of a table was changed is judged by the rows that the table has now.
func (j *Journal) Marked(ctx context.Context, rule journal.Rule, since time.Time, limit int) (list []Marked, more bool, err error) {
	late := j.book.Now()
	var where []uint64
	may := func(h *journal.Head) bool {
		return h.Commits > 0 && !h.Latest.Before(since) && rule.May(h, late, j.book.Rows)
	}
	err = j.all(ctx, func(all *journal.Head) bool { return !may(all) }, func(h *journal.Head) (bool, error) {
		if may(h) {
			where = append(where, h.Segment.Number)
		}
		return true, nil
	})
	f := journal.Filter{From: since, Empty: true}
	for i := len(where) - 1; i >= 0 && err == nil && len(list) <= limit; i-- {
		var part []Entry
		part, err = j.matching(ctx, where[i], &f)
		authors, err := j.Authors(ctx, part)
		if err != nil {
			return nil, false, err
		}
		for n := len(part) - 1; n >= 0; n-- {
			if why := rule.For(authors[part[n].XID].Role).Judge(&part[n].Transaction, part[n].Tables, j.book.Rows); len(why) > 0 {
				list = append(list, Marked{part[n], why})
			}
		}
	}
	if len(list) > limit {
		return list[:limit], true, err
	}
	return list, false, err
}

// Like is what would have to be normal for a transaction to be no incident under a rule, of whoever was seen to do it.
func (j *Journal) Like(ctx context.Context, rule journal.Rule, e Entry) ([]journal.Normal, error) {
	authors, err := j.Authors(ctx, []Entry{e})
	return rule.Like(&e.Transaction, e.Tables, j.book.Rows, authors[e.XID].Role), err
}
