package moment

import (
	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Boundary is a moment resolved: where replay stops and what lies on either side.
type Boundary struct {
	Moment    string          `json:"moment"` // the moment in its canonical form
	Timeline  pg.Timeline     `json:"timeline"`
	Stop      pg.LSN          `json:"stop"`               // start of the record at which replay stops
	Inclusive bool            `json:"inclusive"`          // whether that record is still replayed
	End       pg.LSN          `json:"end"`                // where replay stands then: the end of the last record in
	LastIn    *journal.Commit `json:"lastIn,omitempty"`   // the last transaction that is kept
	FirstOut  *journal.Commit `json:"firstOut,omitempty"` // the first transaction that is undone
}

// Keeps tells whether the record that begins at an LSN is in.
func (b *Boundary) Keeps(record pg.LSN) bool {
	return record < b.Stop || record == b.Stop && b.Inclusive
}

// Border finds where an LSN lies between records. Show it the records from a place
// before the LSN, in the order of the log, until See says that it is placed.
type Border struct {
	lsn        pg.LSN
	before     bool
	start, end pg.LSN // of the record before; 0 while none is known
	stop       pg.LSN
	placed     bool
}

// NewBorder seeks an LSN: the record that begins at or covers it is in, or with before
// it is out, and one that only covers it is in. start and end are of the record before
// the first that will be shown; 0 if there is none.
func NewBorder(lsn pg.LSN, before bool, start, end pg.LSN) *Border {
	return &Border{lsn: lsn, before: before, start: start, end: end}
}

// See takes the next record and says whether the border is placed.
func (b *Border) See(r *wal.Record) bool {
	switch {
	case b.before && r.Start >= b.lsn:
		b.stop, b.placed = r.Start, true
	case !b.before && r.Start > b.lsn:
		b.stop, b.placed = b.start, true
	default:
		b.start, b.end = r.Start, r.End
	}
	return b.placed
}

// Result gives where replay stops, whether the record there is still in, and where
// replay stands then, after the last record was shown. ok is false if the LSN lies
// beyond them, or no record is in.
func (b *Border) Result() (stop pg.LSN, inclusive bool, end pg.LSN, ok bool) {
	switch {
	case b.end == 0:
		return 0, false, 0, false
	case b.placed:
		return b.stop, !b.before, b.end, b.stop != 0
	case b.lsn > b.end || !b.before && b.lsn == b.end:
		return 0, false, 0, false
	}
	return b.start, true, b.end, true
}
