package moment

import (
	"errors"
	"fmt"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Commit is a committed transaction at a side of a boundary.
type Commit struct {
	XID  pg.XID    `json:"xid"`
	Time time.Time `json:"time"`
	LSN  pg.LSN    `json:"lsn" doc:"start of its commit record"`
}

// Boundary is a moment resolved: where replay stops and what lies on either side.
type Boundary struct {
	Moment    string      `json:"moment" doc:"the moment in its canonical form"`
	Timeline  pg.Timeline `json:"timeline"`
	Stop      pg.LSN      `json:"stop" doc:"start of the record at which replay stops"`
	Inclusive bool        `json:"inclusive" doc:"whether that record is still replayed"`
	End       pg.LSN      `json:"end" doc:"where replay stands then: the end of the last record in"`
	LastIn    *Commit     `json:"lastIn,omitempty" doc:"the last transaction that is kept"`
	FirstOut  *Commit     `json:"firstOut,omitempty" doc:"the first transaction that is undone"`
}

// ErrBeyond says that the moment lies behind the captured WAL.
var ErrBeyond = errors.New("the moment lies beyond the captured WAL")

// RolledBack says that the transaction asked for never committed.
type RolledBack struct {
	XID  pg.XID
	Time time.Time
}

func (e *RolledBack) Error() string {
	return fmt.Sprintf("transaction %d was rolled back at %s: nothing of it is in the database at any moment",
		e.XID, e.Time.Format(time.RFC3339Nano))
}

// Search resolves one moment. Show it the records from a place that is surely
// before the moment, in the order of the log, until See says that it is done.
type Search struct {
	moment   Moment
	boundary Boundary
	placed   bool // the boundary's stop is known; only FirstOut may still be missing
	seen     bool
	start    pg.LSN // of the record before
	end      pg.LSN
	timeline pg.Timeline
	last     *Commit
}

// NewSearch prepares the resolution of m.
func NewSearch(m Moment) *Search {
	return &Search{moment: m, boundary: Boundary{Moment: m.String()}}
}

// See takes the next record and says whether the boundary is now known.
func (s *Search) See(r *wal.Record, version int) (done bool, err error) {
	end, isEnd, err := wal.EndOf(r, version)
	if err != nil {
		return false, err
	}
	var commit *Commit
	if isEnd && end.Committed {
		commit = &Commit{XID: end.XID, Time: end.Time, LSN: r.Start}
	}
	if s.placed {
		if commit != nil {
			s.boundary.FirstOut = commit
		}
		return commit != nil, nil
	}
	switch s.moment.Kind {
	case AtTime:
		if commit != nil && commit.Time.After(s.moment.Time) {
			return s.stopBefore(r, commit), nil
		}
	case AtLSN:
		s.seeLSN(r)
	case Transaction:
		if isEnd && s.names(end) {
			if !end.Committed {
				return false, &RolledBack{XID: s.moment.XID, Time: end.Time}
			}
			if s.moment.Before {
				return s.stopBefore(r, commit), nil
			}
			s.pass(r, commit)
			s.place(s.start, true)
			return false, nil
		}
	}
	if s.placed { // seeLSN placed the boundary before this record
		s.boundary.FirstOut = commit
		return commit != nil, nil
	}
	s.pass(r, commit)
	return false, nil
}

// seeLSN places the boundary in front of r when r lies behind the LSN asked for.
func (s *Search) seeLSN(r *wal.Record) {
	switch {
	case s.moment.Before && r.Start >= s.moment.LSN:
		s.place(r.Start, false)
	case !s.moment.Before && r.Start > s.moment.LSN:
		s.place(s.start, true)
	}
}

func (s *Search) names(end wal.End) bool {
	if end.XID == s.moment.XID {
		return true
	}
	for _, sub := range end.Subxacts {
		if sub == s.moment.XID {
			return true
		}
	}
	return false
}

func (s *Search) pass(r *wal.Record, commit *Commit) {
	s.seen, s.start, s.end, s.timeline = true, r.Start, r.End, r.Timeline
	if commit != nil {
		s.last = commit
	}
}

func (s *Search) stopBefore(r *wal.Record, commit *Commit) bool {
	s.place(r.Start, false)
	s.boundary.Timeline = r.Timeline
	s.boundary.FirstOut = commit
	return true
}

func (s *Search) place(stop pg.LSN, inclusive bool) {
	s.placed = true
	s.boundary.Stop, s.boundary.Inclusive = stop, inclusive
	s.boundary.End, s.boundary.LastIn, s.boundary.Timeline = s.end, s.last, s.timeline
}

// Result gives the boundary after the last record was shown. captured is the
// server's time up to which the WAL is known to be complete.
func (s *Search) Result(captured time.Time) (Boundary, error) {
	if s.placed {
		return s.boundary, nil
	}
	if !s.seen {
		return Boundary{}, ErrBeyond
	}
	switch s.moment.Kind {
	case AtTime:
		if s.moment.Time.After(captured) {
			return Boundary{}, ErrBeyond
		}
	case Transaction:
		return Boundary{}, ErrBeyond
	case AtLSN:
		if s.moment.LSN > s.end || (!s.moment.Before && s.moment.LSN == s.end) {
			return Boundary{}, ErrBeyond
		}
	}
	s.place(s.start, true)
	return s.boundary, nil
}
