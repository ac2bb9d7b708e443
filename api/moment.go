package api

import (
	"time"

	"velvetrewind/core/pg"
)

// Moment is a moment resolved and explained.
type Moment struct {
	Moment   string        `json:"moment" doc:"in its canonical form"`
	UTC      *time.Time    `json:"utc,omitempty" doc:"of a time"`
	Note     string        `json:"note,omitempty" doc:"what was chosen where the moment left a choice"`
	Boundary Boundary      `json:"boundary"`
	Around   []Transaction `json:"around" doc:"transactions on both sides, in the order of the log"`
	Kept     int           `json:"kept" doc:"so many of them, from the first, are kept"`
	Cost     Cost          `json:"cost"`
	Plan     *Restore      `json:"plan,omitempty" doc:"what a restore would do"`
	Why      string        `json:"why,omitempty" doc:"why it cannot be restored"`
	Next     string        `json:"next,omitempty" doc:"what can be"`
}

// Cost is what going back would throw away of what is captured.
type Cost struct {
	Transactions int64         `json:"transactions"`
	Tables       []TableChange `json:"tables" doc:"those to which most was done first"`
}

// Located is the WAL segment that holds a moment.
type Located struct {
	Moment   string     `json:"moment"`
	LSN      pg.LSN     `json:"lsn"`
	Segment  string     `json:"segment" doc:"file name"`
	Timeline uint32     `json:"timeline"`
	Where    string     `json:"where" enum:"store,second,spool,hole,lost,absent" doc:"second: in the second store alone; lost: recorded, and in no store that can be asked"`
	InSecond *bool      `json:"inSecond,omitempty" doc:"the second store has it; left out where there is none, or it cannot be asked"`
	Hole     *Hole      `json:"hole,omitempty" doc:"in which it lies"`
	Record   *WALRecord `json:"record,omitempty" doc:"that begins there or covers it"`
}

// WALRecord is a WAL record.
type WALRecord struct {
	Start   pg.LSN `json:"start"`
	End     pg.LSN `json:"end"`
	XID     pg.XID `json:"xid" doc:"0 where no transaction wrote it"`
	Manager string `json:"manager" doc:"resource manager"`
	Kind    string `json:"kind"`
	Length  uint32 `json:"length" doc:"bytes"`
	Pages   int    `json:"pages" doc:"that it refers to"`
	Images  int    `json:"images" doc:"full-page images that it carries"`
	Fields  any    `json:"fields,omitempty" doc:"what it says, by its kind"`
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

// Commit is a committed transaction at a place.
type Commit struct {
	XID  pg.FullXID `json:"xid" doc:"with its epoch"`
	LSN  pg.LSN     `json:"lsn" doc:"start of its commit record"`
	Time time.Time  `json:"time"`
}

// Restore is a plan.
type Restore struct {
	Boundary Boundary `json:"boundary"`
	Base     string   `json:"base" doc:"id of the base backup it begins with"`
	Start    pg.LSN   `json:"start" doc:"where replay begins"`
	First    string   `json:"firstSegment"`
	Last     string   `json:"lastSegment"`
	Count    int      `json:"segments" doc:"how many WAL segments are replayed"`
	Replay   int64    `json:"replayBytes" doc:"bytes of WAL to replay"`

	Estimate *Estimate `json:"estimate,omitempty" doc:"how long it should take, by the cluster's rehearsals; absent where there was none"`
	Site     *Site     `json:"site,omitempty" doc:"where a copy would stand; only of a plan that was asked for"`
}

// Site is where a copy would stand, and what there is of what it needs.
type Site struct {
	Host      string    `json:"host,omitempty" doc:"name of the host with an agent; left out, the service's own"`
	Directory string    `json:"directory,omitempty"`
	User      string    `json:"user,omitempty" doc:"OS user that its server would run as"`
	Bytes     int64     `json:"bytes" doc:"to lay out"`
	Free      int64     `json:"free" doc:"bytes"`
	Memory    int64     `json:"memory" doc:"bytes that are free there"`
	Buffers   int64     `json:"buffers" doc:"bytes of it that the copy's server would take for pages"`
	Stored    int       `json:"stored" doc:"segments that are in the store"`
	Spooled   int       `json:"spooled" doc:"segments that are only in the spool"`
	Missing   []string  `json:"missing" doc:"segments that are in neither"`
	Obstacles []Problem `json:"obstacles" doc:"what stands in the way, and what to do about it"`
}

// PlanRequest asks for a plan.
type PlanRequest struct {
	Moment string `json:"moment" doc:"in the moment language; a time needs its zone, or zone"`
	Zone   string `json:"zone,omitempty" doc:"IANA name of the zone in which a time without one is read"`
	Host   string `json:"host,omitempty" doc:"name of the host with an agent that the copy would be made on"`
}

// Estimate is how long a restore should take, by phase.
type Estimate struct {
	LayOut float64 `json:"layOutSeconds"`
	Replay float64 `json:"replaySeconds"`
	Proof  float64 `json:"proofSeconds"`
}

// MomentRequest names a moment.
type MomentRequest struct {
	Moment string `json:"moment" doc:"in the moment language; a time needs its zone, or zone"`
	Zone   string `json:"zone,omitempty" doc:"IANA name of the zone in which a time without one is read"`
	Around int    `json:"around,omitempty" minimum:"0" maximum:"200" doc:"so many transactions on each side; 8 if it is left out"`
}
