package retrieve

import (
	"context"
	"slices"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/rescue"
	"velvetrewind/engine/changes"
)

// mostSince is how many transactions are told of each table; the newest.
const mostSince = 50

// explain tells which transactions have written a table since the copy, and which of them each row is by that is shown.
func (s *session) explain(ctx context.Context, c *rescue.Comparison, t *side, database string, since pg.LSN, by map[string]pg.XID) error {
	if s.Journal == nil || c.Missing+c.Changed+c.Added == 0 {
		return nil
	}
	list, more, err := s.Journal.List(ctx, journal.Filter{Database: database, Table: journal.Table{Schema: t.Schema, Name: t.Name},
		After: since - 1}, false, mostSince)
	if err != nil {
		return err
	}
	c.More = more
	for _, e := range list {
		one := rescue.Writer{XID: uint64(e.XID), CommittedAt: e.Time}
		for _, change := range e.Tables {
			if !change.Known || change.Database != database || !(journal.Table{Schema: t.Schema, Name: t.Name}).Covers(change.Name) {
				continue
			}
			one.Inserted += int64(change.Counts[journal.Insert])
			one.Updated += int64(change.Counts[journal.Update])
			one.Deleted += int64(change.Counts[journal.Delete])
			one.Truncated = one.Truncated || change.Counts[journal.Truncate]+change.Counts[journal.Drop] > 0
		}
		c.Since = append(c.Since, one)
	}
	for i := range c.Sample {
		d := &c.Sample[i]
		d.By = writerOf(list, by[d.Key])
		if d.How == rescue.IsMissing {
			d.By = onlyRemover(c)
		}
	}
	return nil
}

// writerOf is the transaction that an id in a row belongs to; 0 if it is not among some.
func writerOf(list []changes.Entry, x pg.XID) uint64 {
	for _, e := range list {
		if x != 0 && (pg.XID(e.XID) == x || slices.Contains(e.Subxacts, x)) {
			return uint64(e.XID)
		}
	}
	return 0
}

// onlyRemover is the transaction that has removed rows, if no other can have: an update may have given a row another key; else 0.
func onlyRemover(c *rescue.Comparison) (x uint64) {
	if c.More {
		return 0
	}
	for _, w := range c.Since {
		switch {
		case w.Deleted+w.Updated == 0 && !w.Truncated:
		case x != 0:
			return 0
		default:
			x = w.XID
		}
	}
	return x
}
