// Package keep decides what a cluster's keep rule still needs: which base backups, and
// which WAL, each with the reason, and what may be deleted.
//
// Invariant: every moment that the rule promises and that can be reached before is reached afterwards; a pinned or
// used base stays, with the WAL that it needs; and a cluster never loses its newest base that can be restored, nor
// any WAL after it. What is neither promised nor needed for safety is releasable. Time comes from the caller.
// Deleting is the caller's.
package keep

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"velvetrewind/core/figures"
	"velvetrewind/core/inventory"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

// Rule says what of a cluster is kept. A part that is zero asks for nothing.
type Rule struct {
	SpanHours int `json:"spanHours"` // any moment of the last so many hours can be reached
	// the newest so many base backups are kept, and any moment since the oldest of them can be reached
	Count   int    `json:"count"`
	Daily   int    `json:"daily"`          // the first base backup of each of the last so many days that have one
	Weekly  int    `json:"weekly"`         // likewise of weeks, which begin on Monday
	Monthly int    `json:"monthly"`        // likewise of months
	Yearly  int    `json:"yearly"`         // likewise of years
	Zone    string `json:"zone,omitempty"` // time zone of those days, weeks, months and years, as Europe/Lisbon; UTC if left out
}

// Default is the rule of a cluster for which none was set.
var Default = Rule{SpanHours: 31 * 24}

// Span is how far back any moment is promised.
func (r Rule) Span() time.Duration { return time.Duration(r.SpanHours) * time.Hour }

// Check refuses a rule that keeps nothing, or asks for less than nothing.
func (r Rule) Check() error {
	parts := []int{r.SpanHours, r.Count, r.Daily, r.Weekly, r.Monthly, r.Yearly}
	sum := 0
	for _, n := range parts {
		if n < 0 {
			return errors.New("a part of the rule is below zero")
		}
		sum |= n
	}
	if sum == 0 {
		return errors.New("the rule keeps nothing: every base backup but the newest would be deleted")
	}
	if r.SpanHours == 0 && r.Count == 0 {
		return errors.New("the rule promises no span of moments: name one, or a number of newest base backups, beside the long-term ones")
	}
	return nil
}

// String says the rule in words.
func (r Rule) String() string {
	var parts []string
	if r.SpanHours > 0 {
		parts = append(parts, "any moment of the last "+Hours(r.SpanHours))
	}
	if r.Count > 0 {
		parts = append(parts, "the newest "+figures.Of(r.Count, "base backup")+" and any moment since")
	}
	for _, p := range r.periods() {
		if p.count > 0 {
			parts = append(parts, "the first base backup of each of "+figures.Of(p.count, p.name))
		}
	}
	return strings.Join(parts, "; ")
}

// Hours says a number of hours in words: 31 days, 36 hours.
func Hours(n int) string {
	if n%24 == 0 {
		return figures.Of(n/24, "day")
	}
	return figures.Of(n, "hour")
}

// period is one part of long-term keeping.
type period struct {
	count int
	name  string
	of    func(time.Time) string // names the period that a time lies in
}

func (r Rule) periods() []period {
	return []period{
		{r.Daily, "day", func(t time.Time) string { return t.Format("2006-01-02") }},
		{r.Weekly, "week", func(t time.Time) string { y, w := t.ISOWeek(); return fmt.Sprintf("week %d of %d", w, y) }},
		{r.Monthly, "month", func(t time.Time) string { return t.Format("January 2006") }},
		{r.Yearly, "year", func(t time.Time) string { return t.Format("2006") }},
	}
}

// Pin keeps a base backup whatever the rule says.
type Pin struct {
	Base   string
	Reason string
	Until  time.Time // zero: until it is taken off
}

// holds tells whether the pin has not expired.
func (p Pin) holds(at time.Time) bool { return p.Until.IsZero() || at.Before(p.Until) }

// Use is a copy that is still fed from a base and its WAL.
type Use struct {
	Copy     string
	Base     string
	Timeline pg.Timeline
	To       pg.LSN // the end of what it replays
}

// History is what there is of a cluster.
type History struct {
	Size  pg.SegmentSize
	Bases []reach.Base
	WAL   []reach.WAL // captured, in store and spool
	Forks []reach.Fork
	Live  pg.Timeline // that is being captured
	Pins  []Pin
	Uses  []Use
	Lost  inventory.Losses // of Bases and WAL, what an audit could not read
}

// Reason is why something is kept or deleted.
type Reason struct {
	Kind string
	Text string
}

// Base is a base backup with its verdict.
type Base struct {
	ID       string
	Timeline pg.Timeline
	Start    pg.LSN
	Stop     pg.LSN
	StopTime time.Time
	Needed   bool
	Reasons  []Reason
}

// WAL is a stretch of captured WAL with its verdict.
type WAL struct {
	Timeline pg.Timeline
	First    uint64 // number of its first segment
	Last     uint64 // number of its last segment
	From     pg.LSN
	To       pg.LSN
	Needed   bool
	Reasons  []Reason
}

// Decision is what a rule needs at one time.
type Decision struct {
	AsOf     time.Time
	Promised time.Time    // any moment since then is promised
	Held     bool         // every promised moment can be reached
	HeldFrom *time.Time   // since when without a gap every moment can be reached
	Bases    []Base       // newest first
	WAL      []WAL        // by timeline and place
	Before   []reach.Span // reach now
	After    []reach.Span // reach when what is releasable has been deleted
}

// Releasable lists the bases and the stretches of WAL that may be deleted.
func (d Decision) Releasable() (bases []string, wal []WAL) {
	for _, b := range d.Bases {
		if !b.Needed {
			bases = append(bases, b.ID)
		}
	}
	for _, w := range d.WAL {
		if !w.Needed {
			wal = append(wal, w)
		}
	}
	return bases, wal
}
