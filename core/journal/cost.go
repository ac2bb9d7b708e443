package journal

import (
	"cmp"
	"slices"

	"velvetrewind/core/pg"
)

// Cost is what going back to a boundary throws away: the transactions that committed
// after it, and what they did to each table.
type Cost struct {
	Transactions int64
	Tables       []TableSum // in the order of how much was done to them
	To           pg.LSN     // of the WAL that was looked at
}

// AddSegment counts all that committed in a segment.
func (c *Cost) AddSegment(h *Head, late Lookup) {
	c.Transactions += h.Commits
	c.To = max(c.To, h.To)
	for i := range h.Tables {
		s := &h.Tables[i]
		n, known := s.Name, s.Known
		if !known && late != nil {
			n, known = late(s.File)
		}
		c.add(TableChange{Name: n, Known: known, File: s.File, Counts: s.Sum})
	}
}

// AddTransaction counts one transaction.
func (c *Cost) AddTransaction(t *Transaction, tables []TableChange) {
	if !t.Committed {
		return
	}
	c.Transactions++
	c.To = max(c.To, t.End)
	for _, change := range tables {
		c.add(change)
	}
}

func (c *Cost) add(change TableChange) {
	if change.System() || change.Known && change.Part != Main {
		return
	}
	for i := range c.Tables {
		s := &c.Tables[i]
		if s.Known == change.Known && (s.Known && s.OID == change.OID && s.Database == change.Database || !s.Known &&
			s.File == change.File) {
			s.Name = change.Name // what it was called last
			for k, n := range change.Counts {
				s.Sum[k] += n
			}
			return
		}
	}
	c.Tables = append(c.Tables, TableSum{Name: change.Name, Known: change.Known, File: change.File, Sum: change.Counts})
}

// Sort puts the tables to which most was done first.
func (c *Cost) Sort() {
	slices.SortStableFunc(c.Tables, func(x, y TableSum) int {
		return cmp.Or(cmp.Compare(y.Sum.Rows(), x.Sum.Rows()), cmp.Compare(x.Name.Label(), y.Name.Label()))
	})
}
