package changes

import (
	"cmp"
	"slices"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
)

// Together takes several transactions, in the order in which they were committed, for one: that of the first, with the ids of the others
// as its sub-transactions.
func Together(list []Entry) Entry {
	slices.SortFunc(list, func(a, b Entry) int { return cmp.Compare(a.End, b.End) })
	all := list[0]
	if len(list) == 1 {
		return all
	}
	all.Subxacts, all.Tables, all.Changes, all.Dropped = slices.Clone(all.Subxacts), slices.Clone(all.Tables), slices.Clone(all.Changes),
		slices.Clone(all.Dropped)
	for _, e := range list[1:] {
		all.Subxacts = append(append(all.Subxacts, pg.XID(e.XID)), e.Subxacts...)
		all.First, all.End, all.Time = min(all.First, e.First), e.End, e.Time
		all.Changes, all.Dropped = append(all.Changes, e.Changes...), append(all.Dropped, e.Dropped...)
		for _, c := range e.Tables {
			at := slices.IndexFunc(all.Tables, func(t journal.TableChange) bool {
				return t.Known == c.Known && t.Database == c.Database && t.OID == c.OID
			})
			if at < 0 {
				all.Tables = append(all.Tables, c)
				continue
			}
			for op, n := range c.Counts {
				all.Tables[at].Counts[op] += n
			}
		}
	}
	return all
}
