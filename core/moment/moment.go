// Package moment is the moment language: what a DBA asks for when they say where
// to go back to. It parses and prints moments, and resolves one against WAL
// records to a boundary.
//
// Invariant: a moment means one place in the WAL or it is an error; a time
// without a zone is never guessed. Reading the WAL is left to the caller, who
// shows its records to a Search in order.
package moment

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"velvetrewind/core/pg"
)

// Kind is the form of a moment.
type Kind int

// The forms of a moment.
const (
	Latest      Kind = iota // everything captured
	AtTime                  // commits up to and including this time are in
	Transaction             // the transaction is in, or with Before out
	AtLSN                   // the record that begins at or covers this LSN is in, or with Before out
)

// Moment is a parsed moment.
type Moment struct {
	Kind   Kind
	Before bool
	Time   time.Time // of AtTime, in the zone it was written with
	XID    pg.XID    // of Transaction
	Epoch  uint32    // of Transaction, 0 unless a 64-bit id was given
	LSN    pg.LSN    // of AtLSN
}

// String prints the moment in its canonical form, which Parse reads back.
func (m Moment) String() string {
	before := ""
	if m.Before {
		before = "before "
	}
	switch m.Kind {
	case AtTime:
		return m.Time.Format(time.RFC3339Nano)
	case Transaction:
		return fmt.Sprintf("%stx %d", before, uint64(m.Epoch)<<32|uint64(m.XID))
	case AtLSN:
		return fmt.Sprintf("%slsn %s", before, m.LSN)
	}
	return "latest"
}

// SyntaxError points at the place in a moment that could not be understood.
type SyntaxError struct {
	Text   string
	At     int // byte offset into Text
	Reason string
}

// Forms lists what can be written, for errors and help.
const Forms = `latest · 2026-11-23T14:03:07.25Z · 2026-11-23 14:03:07 Europe/Lisbon · tx 84213 · before tx 84213 · lsn 0/5A3F2B8 · before lsn 0/5A3F2B8`

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("moment %q, character %d: %s", e.Text, e.At+1, e.Reason)
}

// Pointer draws the text with a caret under the offending character, for terminals.
func (e *SyntaxError) Pointer() string {
	return e.Text + "\n" + strings.Repeat(" ", len([]rune(e.Text[:e.At]))) + "^"
}

// Parse reads a moment. Every error is a *SyntaxError.
func Parse(text string) (Moment, error) {
	p := parser{text: text}
	m, err := p.moment()
	if err != nil {
		return Moment{}, err
	}
	if word, at := p.word(); word != "" {
		return Moment{}, p.fail(at, "nothing more was expected here, but %q follows", word)
	}
	return m, nil
}

type parser struct {
	text string
	pos  int
}

func (p *parser) fail(at int, format string, args ...any) error {
	return &SyntaxError{Text: p.text, At: at, Reason: fmt.Sprintf(format, args...)}
}

// word takes the next run of characters without white space, and says where it began.
func (p *parser) word() (string, int) {
	for p.pos < len(p.text) && isSpace(p.text[p.pos]) {
		p.pos++
	}
	at := p.pos
	for p.pos < len(p.text) && !isSpace(p.text[p.pos]) {
		p.pos++
	}
	return p.text[at:p.pos], at
}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

func (p *parser) moment() (Moment, error) {
	word, at := p.word()
	switch strings.ToLower(word) {
	case "":
		return Moment{}, p.fail(at, "a moment is missing; write one of: %s", Forms)
	case "latest":
		return Moment{Kind: Latest}, nil
	case "before":
		word, at = p.word()
		m, err := p.place(word, at)
		m.Before = true
		return m, err
	}
	if word[0] >= '0' && word[0] <= '9' {
		return p.time(word, at)
	}
	return p.place(word, at)
}

// place reads what may stand behind "before".
func (p *parser) place(word string, at int) (Moment, error) {
	switch strings.ToLower(word) {
	case "tx":
		return p.transaction()
	case "lsn":
		value, at := p.word()
		if value == "" {
			return Moment{}, p.fail(at, "an LSN is missing behind \"lsn\", for example lsn 0/5A3F2B8")
		}
		l, err := pg.ParseLSN(value)
		if err != nil {
			return Moment{}, p.fail(at, "%v", err)
		}
		return Moment{Kind: AtLSN, LSN: l}, nil
	case "":
		return Moment{}, p.fail(at, "\"before\" wants a transaction or an LSN, for example before tx 84213")
	}
	return Moment{}, p.fail(at, "%q begins no moment; write one of: %s", word, Forms)
}

func (p *parser) transaction() (Moment, error) {
	value, at := p.word()
	if value == "" {
		return Moment{}, p.fail(at, "a transaction id is missing behind \"tx\", for example tx 84213")
	}
	id, err := strconv.ParseUint(value, 10, 64)
	if err != nil {
		return Moment{}, p.fail(at, "%q is not a transaction id; that is a decimal number, for example 84213", value)
	}
	if uint32(id) < 3 {
		return Moment{}, p.fail(at, "%d is not the id of a transaction; those begin at 3", id)
	}
	return Moment{Kind: Transaction, XID: pg.XID(id), Epoch: uint32(id >> 32)}, nil
}

var (
	clockLayouts = []string{"15:04:05.999999999", "15:04"}
	zoneLayouts  = []string{"Z07:00", "Z0700", "Z07"}
)

// time reads "DATE TIME ZONE" or "DATETTIMEZONE"; the zone is an offset, Z, UTC or an IANA name.
func (p *parser) time(word string, at int) (Moment, error) {
	date, clock, joined := strings.Cut(word, "T")
	day, err := time.Parse("2006-01-02", date)
	if err != nil {
		return Moment{}, p.fail(at, "%q is not a date; write it as 2026-11-23", date)
	}
	clockAt := at + len(date) + 1
	if !joined {
		clock, clockAt = p.word()
	}
	if clock == "" {
		return Moment{}, p.fail(clockAt, "a time of day is missing behind the date, for example 14:03:07")
	}
	var zone string
	var zoneAt int
	if cut := strings.IndexAny(clock, "Zz+-"); cut >= 0 {
		clock, zone, zoneAt = clock[:cut], clock[cut:], clockAt+cut
	} else {
		zone, zoneAt = p.word()
	}
	hour, ok := parseAny(clockLayouts, clock)
	if !ok {
		return Moment{}, p.fail(clockAt, "%q is not a time of day; write it as 14:03 or 14:03:07.25", clock)
	}
	if zone == "" {
		return Moment{}, p.fail(zoneAt, "a zone is missing behind the time: Z, +01:00 or Europe/Lisbon")
	}
	loc, err := parseZone(zone)
	if err != nil {
		return Moment{}, p.fail(zoneAt, "%q is no zone; write Z, an offset such as +01:00, or a name such as Europe/Lisbon", zone)
	}
	t := time.Date(day.Year(), day.Month(), day.Day(), hour.Hour(), hour.Minute(), hour.Second(), hour.Nanosecond(), loc)
	if t.Hour() != hour.Hour() || t.Minute() != hour.Minute() {
		return Moment{}, p.fail(clockAt, "%s does not exist on that day in %s: the clocks are put forward", clock, zone)
	}
	return Moment{Kind: AtTime, Time: t}, nil
}

func parseAny(layouts []string, s string) (time.Time, bool) {
	for _, l := range layouts {
		if t, err := time.Parse(l, s); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

func parseZone(zone string) (*time.Location, error) {
	if t, ok := parseAny(zoneLayouts, strings.ToUpper(zone)); ok {
		return t.Location(), nil
	}
	if zone == "Local" {
		return nil, fmt.Errorf("the service has no zone of its own")
	}
	return time.LoadLocation(zone)
}
