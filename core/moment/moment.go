// Package moment is the moment language: what a DBA asks for when they say where
// to go back to. It parses and prints moments, and finds the boundary that an LSN
// makes between WAL records.
//
// Invariant: a moment means one place in the WAL or it is an error; a time
// without a zone is never guessed. Which transaction, restore point or base a moment names
// is looked up by the caller, in the change journal.
package moment

import (
	"fmt"
	"strings"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
)

// Form is the form of a moment.
type Form int

// The forms of a moment.
const (
	Latest          Form = iota // everything captured
	AtTime                      // commits up to and including this time are in
	Transaction                 // the transaction is in, or with Before out
	AtLSN                       // the record that begins at or covers this LSN is in, or with Before out
	AtRestorePoint              // a named restore point is in
	AtBase                      // the end of a base backup: nothing is replayed beyond what it needs
	BeforeOperation             // before the transaction that did something to a table
)

// Moment is a parsed moment.
type Moment struct {
	Kind      Form
	Before    bool
	Time      time.Time         // of AtTime, in the zone it was written with
	XID       pg.FullXID        // of Transaction
	LSN       pg.LSN            // of AtLSN
	Name      string            // of a restore point, or id of a base
	Operation journal.Operation // of BeforeOperation
	Largest   bool              // of BeforeOperation: the one that deleted, updated or inserted most rows
	Table     journal.Table     // of BeforeOperation
	Part      journal.Part      // of BeforeOperation: what Table names, where that is another object than a table
	Database  string            // of BeforeOperation, in place of Table: the name of a database that was dropped
	Near      time.Time         // of BeforeOperation: about when it was; zero for any time
	Timeline  pg.Timeline       // on the way to which it lies; 0 is the newest
}

// String prints the moment in its canonical form, which Parse reads back.
func (m Moment) String() string {
	s := m.place()
	if m.Timeline != 0 {
		s += fmt.Sprintf(" on timeline %d", uint32(m.Timeline))
	} else if m.Kind == AtRestorePoint && onTimeline.MatchString(s) {
		s = "restore point " + `"` + m.Name + `"` // or Parse would read a timeline
	}
	return s
}

// place is the moment without its timeline.
func (m Moment) place() string {
	before := ""
	if m.Before {
		before = "before "
	}
	switch m.Kind {
	case AtTime:
		return m.Time.Format(time.RFC3339Nano)
	case Transaction:
		return fmt.Sprintf("%stx %d", before, uint64(m.XID))
	case AtLSN:
		return fmt.Sprintf("%slsn %s", before, m.LSN)
	case AtRestorePoint:
		if n := len(m.Name); n > 1 && m.Name[0] == '"' && m.Name[n-1] == '"' {
			return `restore point "` + m.Name + `"` // Parse takes one pair off
		}
		return "restore point " + m.Name
	case AtBase:
		return "base " + m.Name
	case BeforeOperation:
		largest := ""
		if m.Largest {
			largest = "the largest "
		}
		s := fmt.Sprintf("before %s%s of %s", largest, m.Operation, m.Object())
		if !m.Near.IsZero() {
			s += " near " + m.Near.Format(time.RFC3339Nano)
		}
		return s
	}
	return "latest"
}

// Object is what a BeforeOperation was done to.
func (m Moment) Object() string {
	switch {
	case m.Database != "":
		return "database " + journal.Table{Name: m.Database}.String()
	case m.Part != journal.Main:
		return m.Part.Word() + " " + m.Table.String()
	}
	return m.Table.String()
}

// SyntaxError points at the place in a moment that could not be understood.
type SyntaxError struct {
	Text   string
	At     int // byte offset into Text
	Reason string
}

// Forms lists what can be written, for errors and help.
const Forms = `latest · 2026-11-23T14:03:07.25Z · 2026-11-23 14:03:07 Europe/Lisbon · today 14:03 · 12m ago · ` +
	`tx 84213 · before tx 84213 · lsn 0/5A3F2B8 · before lsn 0/5A3F2B8 · restore point NAME · base ID · ` +
	`before delete of booking · before update of fare · before truncate of crew.shift near 14:05 · before drop of invoice · ` +
	`before drop of database saltmarsh · before drop of view|index|sequence|function|schema NAME · ` +
	`before alter of vessel · before the largest delete of booking · any of these on timeline 1`

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("moment %q, character %d: %s", e.Text, len([]rune(e.Text[:e.At]))+1, e.Reason)
}

// Pointer draws the text with a caret under the offending character, for terminals.
func (e *SyntaxError) Pointer() string {
	return e.Text + "\n" + strings.Repeat(" ", len([]rune(e.Text[:e.At]))) + "^"
}

// Caller is what a moment may leave unsaid, because whoever writes it knows.
type Caller struct {
	Now  time.Time      // for "12m ago"; zero refuses that
	Zone *time.Location // of times without a zone; nil refuses them
}
