package proof

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"velvetrewind/core/figures"
	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
)

// Table is one table of the copy, beside the live cluster.
type Table struct {
	Database string `json:"database"`
	OID      uint32 `json:"oid"`
	Name     string `json:"table"` // schema.table
	Copy     int64  `json:"copyRows"`
	// Sum is that of the hashes of the rows' texts, whatever their order; empty where it could not be made.
	Sum     string `json:"sum,omitempty"`
	Columns string `json:"columns,omitempty"` // a hash of the names and types of those of which the sum is
	// Live is how many rows there are in the live cluster; absent where it could not be read.
	Live    *int64 `json:"liveRows,omitempty"`
	LiveSum string `json:"liveSum,omitempty"`
	Problem string `json:"problem,omitempty"` // why the table could not be read on the copy
	// Unsafe: it was not read because that would call functions of its owner's with more rights than they have.
	Unsafe bool `json:"unsafe,omitempty"`
	Locked bool `json:"locked,omitempty"` // it could not be read because a transaction that was open at the moment holds it
	// Damaged: it could not be read because of pages that are found damaged in its files.
	Damaged bool `json:"damaged,omitempty"`
	// Aside: it was read on a second copy, which was opened for that.
	Aside  bool    `json:"aside,omitempty"`
	Cause  string  `json:"cause,omitempty"`  // what explains the difference, in words
	Agrees Verdict `json:"agrees,omitempty"` // of the comparison
}

// Since is what the journal tells of one table after the boundary, as far as the live cluster shows it.
type Since struct {
	Inserted, Updated, Deleted int64
	// Emptied says that the table was truncated: the counts are from then on, of no rows.
	Emptied bool
	Changes int64 // transactions that touched it
	// Largest is the one that deleted most.
	Largest     pg.FullXID
	LargestRows int64
	// By is what emptied it: "truncated by tx 7".
	By string
	// Unsure is why the counts cannot be relied on, if they cannot.
	Unsure string
	Gone   string // how it was dropped: "dropped by tx 9"
}

// Add takes a transaction into account, which put so many fresh rows into files that it made. Show them in the order of the
// log.
func (s *Since) Add(t *journal.Transaction, c *journal.TableChange, fresh int64) {
	n := c.Counts
	s.Changes++
	switch {
	case t.Partial:
		s.Unsure = fmt.Sprintf("tx %d began before the WAL that is here", t.XID)
	case n[journal.Drop] > 0:
		s.Gone = fmt.Sprintf("dropped by tx %d", t.XID)
	case n[journal.Truncate] > 0:
		*s = Since{Emptied: true, Inserted: fresh, Changes: s.Changes, By: fmt.Sprintf("truncated by tx %d", t.XID)}
		if n[journal.Insert] != fresh || n[journal.Update]+n[journal.Delete] > 0 {
			s.Unsure = fmt.Sprintf("tx %d truncated it and changed rows as well", t.XID)
		}
		return
	}
	s.Inserted, s.Updated, s.Deleted = s.Inserted+n[journal.Insert], s.Updated+n[journal.Update], s.Deleted+n[journal.Delete]
	if n[journal.Delete] > s.LargestRows {
		s.Largest, s.LargestRows = t.XID, n[journal.Delete]
	}
}

// Explain judges the difference of a table from the live cluster by what the journal tells. partition says that rows may
// have been moved away to others by updates, which the journal counts as updates. unsure is what keeps
// the journal from telling all of the table's database, if anything does.
func (t *Table) Explain(s *Since, partition bool, unsure string) {
	if t.Live == nil {
		if s.Gone != "" {
			t.Agrees, t.Cause = Passed, s.Gone
		}
		return
	}
	diff := t.Copy - *t.Live
	from := t.Copy
	if s.Emptied {
		from = 0
	}
	rest := *t.Live - (from + s.Inserted - s.Deleted)
	t.Agrees = Passed
	switch {
	case s.Changes == 0 && diff == 0:
		if t.Sum != "" && t.LiveSum != "" && t.Sum != t.LiveSum {
			t.Agrees, t.Cause = Failed, "the journal has no change of it since, yet its rows are not the same"
			if unsure != "" {
				t.Agrees, t.Cause = CouldNotRun, unsure
			}
		}
		return
	case rest == 0:
	case partition && rest < 0 && -rest <= s.Updated:
		t.Cause = figures.Count(-rest) + " moved to other partitions by updates"
	case s.Unsure != "" || unsure != "":
		t.Agrees = CouldNotRun
		t.Cause = fmt.Sprintf("%s, by the journal %s, but %s", difference(diff), difference(t.Copy-from-s.Inserted+s.Deleted),
			cmp.Or(s.Unsure, unsure))
		return
	default:
		t.Agrees = Failed
	}
	if t.Agrees == Passed && diff == 0 && t.Cause == "" && (s.Updated == 0 || t.Sum == t.LiveSum) {
		return
	}
	words := s.words(t.Copy)
	if t.Cause != "" {
		words = append(words, t.Cause)
	}
	t.Cause = difference(diff) + " " + strings.Join(words, " ")
	if t.Agrees == Failed {
		t.Cause = fmt.Sprintf("%s, but by the journal it should be %s (%s)", difference(diff),
			difference(t.Copy-from-s.Inserted+s.Deleted), strings.TrimPrefix(strings.Join(words, " "), "= "))
		if s.Changes == 0 {
			t.Cause = difference(diff) + ", but the journal has no change of it since"
		}
	}
}

// difference says how a copy's rows differ from the live ones.
func difference(diff int64) string {
	switch {
	case diff > 0:
		return figures.Count(diff) + " more than live"
	case diff < 0:
		return figures.Count(-diff) + " fewer than live"
	}
	return "as many as live"
}

// words say where a difference comes from: "= 200,931 deleted by tx 1715 − 955 inserted since".
func (s *Since) words(had int64) (list []string) {
	sign := "="
	add := func(positive bool, format string, args ...any) {
		mark := "−"
		if positive {
			mark = "+"
		}
		if sign == "=" && positive {
			mark = "="
		} else if sign == "=" {
			mark = "= −"
		}
		list, sign = append(list, mark, fmt.Sprintf(format, args...)), ""
	}
	if s.Emptied {
		add(true, "%s %s", figures.Count(had), s.By)
	}
	switch {
	case s.Deleted > 0 && s.LargestRows == s.Deleted:
		add(true, "%s deleted by tx %d", figures.Count(s.Deleted), s.Largest)
	case s.Deleted > 0:
		add(true, "%s deleted since, most (%s) by tx %d", figures.Count(s.Deleted), figures.Count(s.LargestRows), s.Largest)
	}
	if s.Inserted > 0 {
		add(false, "%s inserted since", figures.Count(s.Inserted))
	}
	if s.Updated > 0 && len(list) == 0 {
		list = append(list, fmt.Sprintf("(%s updated since)", figures.Count(s.Updated)))
	}
	return list
}

// Against compares a table with what an earlier proof found of it, where the journal has no change in between.
func (t *Table) Against(earlier *Table, when time.Time) {
	if t.Problem != "" || earlier.Problem != "" || t.Agrees == Failed || t.Columns != earlier.Columns {
		return
	}
	if t.Copy != earlier.Copy || t.Sum != "" && earlier.Sum != "" && t.Sum != earlier.Sum {
		t.Agrees = Failed
		found := figures.Count(earlier.Copy) + " rows in it"
		if t.Copy == earlier.Copy {
			found = "as many rows in it, but not the same"
		}
		t.Cause = fmt.Sprintf("the proof of %s found %s, and the journal has no change of it between the two moments",
			when.UTC().Format("2006-01-02 15:04:05 UTC"), found)
	}
}

// Reading judges the reading of every table: of its rows, or of its values out of line.
func Reading(name string, tables []Table, wrong Findings, took time.Duration) Check {
	o := Observed{Unit: "tables", Wrong: wrong, Took: took}
	var rows int64
	for _, t := range tables {
		where := t.Database + "." + t.Name
		switch {
		case t.Damaged:
			o.LeftOut.Add(where, "its pages are damaged: %s", t.Problem)
		case t.Locked:
			o.LeftOut.Add(where, "a transaction that was open at the moment holds it")
		case t.Unsafe:
			o.LeftOut.Add(where, "it cannot be read safely: %s", t.Problem)
		case t.Problem == "":
			o.Seen++
			rows += t.Copy
		}
	}
	c := Judge(name, &o)
	if c.Verdict == Passed && o.Seen > 0 {
		c.Summary = fmt.Sprintf("%s tables read to the end, %s rows", figures.Count(o.Seen), figures.Count(rows))
	}
	return c
}

// Compared judges the comparison with the live cluster, made at a time; problem is why there was none.
func Compared(tables []Table, at time.Time, problem string) Check {
	o := Observed{Unit: "tables", Halted: problem}
	differ := 0
	for i := range tables {
		t := &tables[i]
		where := t.Database + "." + t.Name
		switch {
		case t.Agrees == Failed:
			o.Wrong.Add(where, "%s", t.Cause)
			o.Seen++
		case t.Agrees == CouldNotRun:
			o.LeftOut.Add(where, "%s", t.Cause)
		case t.Agrees == Passed:
			o.Seen++
			if t.Live == nil || t.Copy != *t.Live {
				differ++
			}
		case problem == "" && t.Problem == "":
			o.LeftOut.Add(where, "it could not be read on the live cluster: %s", t.Cause)
		case problem == "":
			o.LeftOut.Add(where, "it could not be read on the copy")
		}
	}
	c := Judge(Content, &o)
	if c.Verdict == Passed && o.Seen > 0 {
		c.Summary = fmt.Sprintf("%s tables compared with the live cluster at %s; %s in the number of rows, each explained by the journal",
			figures.Count(o.Seen), at.UTC().Format("2006-01-02 15:04:05 UTC"), figures.Of(differ, "difference"))
	}
	c.Tables = tables
	return c
}
