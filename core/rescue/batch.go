package rescue

import "slices"

// Batch is what of a rescue is brought back in a transaction of its own.
type Batch struct {
	Parts []Part `json:"parts"`
	Own   uint64 `json:"own,omitempty"` // id of the transaction that brings it; 0 before there is one
	Left  int    `json:"left"`          // how many batches come after it
}

// Part is rows of a table of the copy, from one on to before another, in the order of their places: counted or, where all rows of the
// table come back, by the blocks that they lie in.
type Part struct {
	OID  uint32 `json:"oid"`
	From int64  `json:"from"`
	To   int64  `json:"to"`
}

// Extent is the rows of a table, or its blocks, that come back, and how many do at once.
type Extent struct {
	Part
	AtOnce int64
}

// Divide makes batches of what comes back, in the order in which it is written: of each group one for so many rows at once, or where
// its rows refer to each other a single one.
func Divide(groups [][]Extent, whole func(group int) bool) []Batch {
	var list []Batch
	for i, g := range groups {
		g = slices.DeleteFunc(slices.Clone(g), func(e Extent) bool { return e.From >= e.To })
		if len(g) > 0 && whole(i) {
			b := Batch{}
			for _, e := range g {
				b.Parts = append(b.Parts, e.Part)
			}
			list = append(list, b)
			continue
		}
		for _, e := range g {
			for from := e.From; from < e.To; from += e.AtOnce {
				list = append(list, Batch{Parts: []Part{{e.OID, from, min(from+e.AtOnce, e.To)}}})
			}
		}
	}
	for i := range list {
		list[i].Left = len(list) - 1 - i
	}
	return list
}

// Without is what is left of a part when some batches have been brought back.
func (p Part) Without(brought []Batch) []Part {
	left := []Part{p}
	for _, b := range brought {
		for _, gone := range b.Parts {
			var rest []Part
			for _, one := range left {
				if gone.OID != one.OID || gone.To <= one.From || one.To <= gone.From {
					rest = append(rest, one)
					continue
				}
				for _, side := range []Part{{one.OID, one.From, gone.From}, {one.OID, gone.To, one.To}} {
					if side.From < side.To {
						rest = append(rest, side)
					}
				}
			}
			left = rest
		}
	}
	return left
}

// Within is what of a part a batch brings.
func (p Part) Within(b Batch) (list []Part) {
	for _, one := range b.Parts {
		if from, to := max(one.From, p.From), min(one.To, p.To); one.OID == p.OID && from < to {
			list = append(list, Part{p.OID, from, to})
		}
	}
	return list
}

// Add takes in what another batch has brought back.
func (p *Plan) Add(o Plan) {
	if len(p.Tables) == 0 && p.XID == 0 {
		*p = o
		return
	}
	for _, t := range o.Tables {
		i := slices.IndexFunc(p.Tables, func(own TablePlan) bool { return own.Table == t.Table })
		if i < 0 {
			p.Tables = append(p.Tables, t)
			continue
		}
		p.Tables[i].add(t)
	}
}

func (p *TablePlan) add(o TablePlan) {
	for to, n := range map[*int64]int64{&p.Rows: o.Rows, &p.Missing: o.Missing, &p.Overwritten: o.Overwritten, &p.Right: o.Right,
		&p.Changed: o.Changed, &p.Gone: o.Gone, &p.Orphans: o.Orphans, &p.Taken: o.Taken, &p.Unsettled: o.Unsettled,
		&p.Inserts: o.Inserts, &p.Updates: o.Updates} {
		*to += n
	}
	p.Conflicts = append(p.Conflicts, o.Conflicts[:min(len(o.Conflicts), max(0, MostConflicts-len(p.Conflicts)))]...)
	for _, note := range o.Notes {
		if !slices.Contains(p.Notes, note) {
			p.Notes = append(p.Notes, note)
		}
	}
}
