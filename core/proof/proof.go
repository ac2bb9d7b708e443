// Package proof turns what was observed on a copy into verdicts.
//
// Invariant: a check passes only on figures that were observed; what could not be observed is "could not run", never
// "passed", and a proof with a failed check has failed. Observing is the caller's.
package proof

import (
	"fmt"
	"strings"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
)

// Verdict is the outcome of a check or of a whole proof.
type Verdict string

// The verdicts, worst first.
const (
	Failed      Verdict = "failed"
	CouldNotRun Verdict = "could not run"
	Passed      Verdict = "passed"
)

// Check is one checked property with its figures.
type Check struct {
	Name    string  `json:"name"`
	Verdict Verdict `json:"verdict"`
	Summary string  `json:"summary"` // one sentence with the figures
	Tables  []Table `json:"tables,omitempty"`
}

// Table is one table read to the end on the copy, beside the live cluster.
type Table struct {
	Database string `json:"database"`
	Name     string `json:"table"` // schema.table
	Copy     int64  `json:"copyRows"`
	Live     *int64 `json:"liveRows,omitempty"` // rows in the live cluster when the proof ran; absent where it could not be read
	Problem  string `json:"problem,omitempty"`  // why the table could not be read on the copy
	// it was not read because that would call functions of its owner's with more rights than they have
	Unsafe bool `json:"unsafe,omitempty"`
	Locked bool `json:"locked,omitempty"` // it could not be read because a transaction that was open at the moment holds it
}

// Overall is failed if any check failed, else could not run if any could not or there was none, else passed.
func Overall(checks []Check) Verdict {
	overall := Passed
	if len(checks) == 0 {
		overall = CouldNotRun
	}
	for _, c := range checks {
		if c.Verdict == Failed {
			return Failed
		}
		if c.Verdict == CouldNotRun {
			overall = CouldNotRun
		}
	}
	return overall
}

// Boundary checks where replay came to stand.
func Boundary(b moment.Boundary, observed pg.LSN) Check {
	c := Check{Name: "boundary", Verdict: Passed}
	side := "before the record at"
	if b.Inclusive {
		side = "after the record at"
	}
	if observed == b.End {
		c.Summary = fmt.Sprintf("replay stopped at %s, %s %s, as planned", observed, side, b.Stop)
		return c
	}
	c.Verdict = Failed
	c.Summary = fmt.Sprintf("replay stopped at %s, but %s was planned (%s %s)", observed, b.End, side, b.Stop)
	return c
}

// Statuses of a transaction as pg_xact_status gives them; Unknown where it has forgotten.
const (
	StatusCommitted  = "committed"
	StatusAborted    = "aborted"
	StatusInProgress = "in progress"
	StatusUnknown    = ""
)

// Transaction checks that a transaction at the boundary is on its side of it.
func Transaction(t journal.Commit, in bool, status string) Check {
	c := Check{Verdict: Passed}
	at := t.Time.UTC().Format("15:04:05.000000 UTC")
	if in {
		c.Name = "last transaction in"
		c.Summary = fmt.Sprintf("tx %d (committed %s) is in", t.XID, at)
	} else {
		c.Name = "first transaction out"
		c.Summary = fmt.Sprintf("tx %d (committed %s on the original) is out", t.XID, at)
	}
	switch {
	case status == StatusUnknown:
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("the copy no longer knows what became of tx %d", t.XID)
	case in != (status == StatusCommitted):
		c.Verdict = Failed
		c.Summary = fmt.Sprintf("tx %d should be %s, but the copy says that it is %s", t.XID, map[bool]string{true: "in", false: "out"}[in],
			status)
	default:
		c.Summary += fmt.Sprintf("; the copy says %s", status)
	}
	return c
}

// PageCounts is what a walk over the relation files of a copy found.
type PageCounts struct {
	Files, Pages int64
	Faults       []string // "base/5/16385, block 7: …"
	FaultCount   int64    // all of them, also where Faults was cut short
	Unreadable   string   // why the walk could not be finished
	Checksums    bool     // the cluster has data checksums
}

// Pages judges such a walk.
func Pages(n PageCounts) Check {
	c := Check{Name: "pages", Verdict: Passed}
	c.Summary = fmt.Sprintf("%d pages in %d files read; every checksum is right", n.Pages, n.Files)
	switch {
	case n.FaultCount > 0:
		c.Verdict = Failed
		c.Summary = fmt.Sprintf("%d of %d pages are damaged: %s", n.FaultCount, n.Pages, strings.Join(n.Faults, "; "))
	case n.Unreadable != "":
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("stopped after %d pages: %s", n.Pages, n.Unreadable)
	case n.Pages == 0:
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("no page was found in %d files", n.Files)
	case !n.Checksums:
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("the cluster has no data checksums; the headers of %d pages in %d files are right, which is all that "+
			"can be told", n.Pages, n.Files)
	}
	return c
}

// Tables judges the reading of every table.
func Tables(tables []Table, liveAt time.Time, liveProblem string) Check {
	c := Check{Name: "tables", Verdict: Passed, Tables: tables}
	var rows, unread, locked, unsafe int64
	for _, t := range tables {
		rows += t.Copy
		switch {
		case t.Locked:
			locked++
		case t.Unsafe:
			unsafe++
		case t.Problem != "":
			unread++
		}
	}
	c.Summary = fmt.Sprintf("%d tables read to the end, %d rows", len(tables), rows)
	switch {
	case unread > 0:
		c.Verdict = Failed
		c.Summary = fmt.Sprintf("%d of %d tables could not be read to the end", unread, len(tables))
	case unsafe > 0:
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("%d of %d tables cannot be read safely: planning that calls functions of their owners, who may not log in",
			unsafe, len(tables))
	case locked > 0:
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("%d of %d tables are held by transactions that were open at the moment; open the copy, which ends "+
			"those, and prove it again", locked, len(tables))
	}
	if liveProblem != "" {
		c.Summary += "; not compared with the live cluster: " + liveProblem
	} else {
		c.Summary += "; live rows counted at " + liveAt.UTC().Format("2006-01-02 15:04:05 UTC")
	}
	return c
}
