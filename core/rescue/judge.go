package rescue

import (
	"fmt"
	"strings"

	"velvetrewind/core/figures"
)

// Verdict is that of a check.
type Verdict string

// The verdicts.
const (
	Passed Verdict = "passed"
	Failed Verdict = "failed"
)

// Check is one thing that was looked at before a rescue was committed.
type Check struct {
	Name    string  `json:"name"`
	Verdict Verdict `json:"verdict"`
	Summary string  `json:"summary"`
}

// Tally is how many rows there are, and the sum of the hashes of their texts.
type Tally struct {
	Rows int64
	Sum  string
}

// Seen is what was seen after the rows were written, in the transaction's own snapshot.
type Seen struct {
	Tables      []SeenTable
	Elsewhere   []string // other tables that were written, and how
	Counted     bool     // the server counts what is written; else Elsewhere says nothing
	Untriggered bool
	Broken      []string // foreign keys that do not hold, where the server did not look
	Made        int      // tables and other objects that were dropped and are made anew
	Lacking     []string // those of them that are not there
	Lost        []SeenLost
}

// SeenLost is what was seen of a table of which dropped columns came back.
type SeenLost struct {
	Table, Columns string
	Rows, Right    int64 // that are still there, and those of them that have their values
	Before, After  Tally // all rows, but for these columns
}

// SeenTable is what was seen of one table.
type SeenTable struct {
	Table           string
	Wanted, Written Tally // what was to be written, and what was
	Before, After   Tally // the other rows
}

// Judge gives the verdicts.
func Judge(s Seen) []Check {
	var wrong, touched []string
	var rows, others int64
	for _, t := range s.Tables {
		rows, others = rows+t.Wanted.Rows, others+t.After.Rows
		if t.Wanted.Rows != t.Written.Rows {
			wrong = append(wrong, fmt.Sprintf("%s: %d rows were written, %d were to be", t.Table, t.Written.Rows, t.Wanted.Rows))
		} else if t.Wanted != t.Written {
			wrong = append(wrong, t.Table+": something, perhaps a trigger, has changed them as they were written")
		}
		if t.Before != t.After {
			touched = append(touched, fmt.Sprintf("%s: %d other rows before, %d after, or not the same", t.Table, t.Before.Rows,
				t.After.Rows))
		}
	}
	check := func(name string, wrong []string, right string, args ...any) Check {
		if len(wrong) > 0 {
			return Check{name, Failed, strings.Join(wrong, "; ")}
		}
		return Check{name, Passed, fmt.Sprintf(right, args...)}
	}
	list := []Check{
		check("rows are back", wrong, "%s as before the transaction", figures.Count(rows)+" rows stand"),
		check("others untouched", touched, "%s other rows of these tables are what they were", figures.Count(others)),
	}
	if len(s.Lost) > 0 {
		var wrong []string
		var rows int64
		for _, l := range s.Lost {
			rows += l.Rows
			if l.Right != l.Rows {
				wrong = append(wrong, fmt.Sprintf("%s: %d of %d rows have their values of %s", l.Table, l.Right, l.Rows, l.Columns))
			}
			if l.Before != l.After {
				wrong = append(wrong, l.Table+": something else in its rows has changed, perhaps by a trigger")
			}
		}
		list = append(list, check("columns are back", wrong, "%s have their values, and nothing else in them has changed",
			figures.Count(rows)+" rows"))
	}
	if s.Made > 0 {
		list = append(list, check("made anew", s.Lacking, "%s that had been dropped are there", figures.Of(s.Made, "object")))
	}
	looked := "the server has looked at every one"
	if s.Untriggered {
		looked = "every foreign key of the rows holds"
	}
	list = append(list, check("constraints", s.Broken, "%s", looked))
	elsewhere := Check{"nothing elsewhere", Passed, "no other table was written"}
	switch {
	case !s.Counted:
		elsewhere = Check{"nothing elsewhere", Failed, "it cannot be seen: the server's track_counts is off"}
	case s.Untriggered:
		elsewhere = check("nothing elsewhere", s.Elsewhere, "no other table was written")
	case len(s.Elsewhere) > 0:
		elsewhere.Summary = "besides, by triggers or as they were made anew, these were written: " + strings.Join(s.Elsewhere, ", ")
	}
	return append(list, elsewhere)
}

// Overall is the worst of verdicts.
func Overall(list []Check) Verdict {
	for _, c := range list {
		if c.Verdict == Failed {
			return Failed
		}
	}
	return Passed
}
