// Package proof turns what was observed on a copy into verdicts.
//
// Invariant: a check passes only on figures that were observed; what could not be observed is "could not run", never
// "passed", and a proof with a failed check has failed. Observing is the caller's.
package proof

import (
	"fmt"
	"time"

	"velvetrewind/core/figures"
)

// Verdict is the outcome of a check or of a whole proof.
type Verdict string

// The verdicts, worst first.
const (
	Failed      Verdict = "failed"
	CouldNotRun Verdict = "could not run"
	Passed      Verdict = "passed"
)

// Verdicts are in the order in which a person should look at checks.
var Verdicts = []Verdict{Failed, CouldNotRun, Passed}

// Check is one checked property with its figures.
type Check struct {
	Name    string        `json:"name"`
	Area    Area          `json:"area"`
	Verdict Verdict       `json:"verdict"`
	Summary string        `json:"summary"` // one sentence with the figures
	Took    time.Duration `json:"took"`    // nanoseconds
	// Shows and Lacks are what a check of this name can show at most, and what it cannot.
	Shows string `json:"shows,omitempty"`
	Lacks string `json:"lacks,omitempty"`
	Next  string `json:"next,omitempty"` // what to do, unless it has passed
	// Wrong and LeftOut are cut short; the summary has their numbers.
	Wrong   []Finding `json:"wrong,omitempty"`
	LeftOut []Finding `json:"leftOut,omitempty"`
	Notes   []string  `json:"notes,omitempty"` // what is worth knowing and no fault
	Tables  []Table   `json:"tables,omitempty"`
	// Value is what the query of a check of the DBA's own gave.
	Value *string `json:"value,omitempty"`
}

// Finding is a place and what is to be said of it.
type Finding struct {
	Where string `json:"where"`
	What  string `json:"what"`
}

func (f Finding) String() string { return f.Where + ": " + f.What }

// mostFindings is how many places a check names; all are counted.
const mostFindings = 20

// Findings are places, of which the first are kept and all are counted.
type Findings struct {
	List  []Finding
	Count int64
}

// Add counts a place.
func (f *Findings) Add(where, format string, args ...any) {
	if f.Count++; len(f.List) < mostFindings {
		f.List = append(f.List, Finding{where, fmt.Sprintf(format, args...)})
	}
}

// Observed is what was seen of many things of one kind.
type Observed struct {
	Unit    string // of what was looked at, in the plural: "foreign keys"
	Seen    int64  // to the end
	Wrong   Findings
	LeftOut Findings // could not be looked at, and why
	Notes   []string
	// Halted is why looking ended early.
	Halted string
	Took   time.Duration
}

// Clock begins to take the time; what it returns adds it up.
func (o *Observed) Clock() func() {
	started := time.Now()
	return func() { o.Took += time.Since(started) }
}

// Judge gives the verdict on what was seen for the check of a name.
func Judge(name string, o *Observed) Check {
	c := New(name)
	c.Wrong, c.LeftOut, c.Notes, c.Took = o.Wrong.List, o.LeftOut.List, o.Notes, o.Took
	c.Verdict = Passed
	c.Summary = fmt.Sprintf("%s: %s looked at, nothing wrong", o.Unit, figures.Count(o.Seen))
	if o.Seen == 0 {
		c.Summary = "there are no " + o.Unit
	}
	if o.LeftOut.Count > 0 {
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("%s: %s looked at, nothing wrong; %s could not be: %s", o.Unit, figures.Count(o.Seen),
			figures.Count(o.LeftOut.Count), o.LeftOut.List[0])
	}
	if o.Halted != "" {
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("%s: stopped after %s: %s", o.Unit, figures.Count(o.Seen), o.Halted)
	}
	if o.Wrong.Count > 0 {
		c.Verdict = Failed
		c.Summary = fmt.Sprintf("%s: %s looked at, wrong: %s: %s", o.Unit, figures.Count(o.Seen), figures.Count(o.Wrong.Count),
			o.Wrong.List[0])
	}
	return c.settled()
}

// Unable is a check that could not be made at all.
func Unable(name string, why error) Check {
	c := New(name)
	c.Verdict, c.Summary = CouldNotRun, why.Error()
	return c.settled()
}

// settled says what to do by the verdict.
func (c Check) settled() Check {
	switch {
	case c.Verdict == Passed:
		c.Next = ""
	case c.Verdict == CouldNotRun && !unable[c.Name] && c.Area != AreaOwn:
		c.Next = "Look at what was left out, and why; the rest of this check was made."
	}
	return c
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
