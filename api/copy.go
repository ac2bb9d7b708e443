package api

import (
	"time"

	"velvetrewind/core/pg"
)

// Copy is a restored cluster that we run.
type Copy struct {
	ID         string     `json:"id"`
	Name       string     `json:"name" doc:"short; no other copy that stands has it"`
	Cluster    string     `json:"cluster" doc:"name of the original"`
	Moment     string     `json:"moment"`
	State      string     `json:"state" enum:"laying out,replaying,paused,open,down,discarded"`
	Problem    string     `json:"problem,omitempty"`
	Host       string     `json:"host,omitempty" doc:"name of the host with an agent that it is on; left out, the service's own"`
	Port       int        `json:"port" doc:"on 127.0.0.1 of its host"`
	WaysIn     []WayIn    `json:"waysIn" doc:"how to look at it"`
	Directory  string     `json:"directory"`
	Partial    *Partial   `json:"partial,omitempty" doc:"what it holds, where that is not the whole cluster"`
	Plan       Restore    `json:"plan"`
	Replayed   pg.LSN     `json:"replayed" doc:"how far replay has come"`
	ReplayedTo *time.Time `json:"replayedTo,omitempty" doc:"commit time of the last transaction replayed"`
	CreatedAt  time.Time  `json:"createdAt"`
	Task       string     `json:"task"`
	Proof      *Proof     `json:"proof,omitempty" doc:"the newest one"`
}

// Partial is what a copy holds that has only some tables, beside the catalogs. A query on another fails.
type Partial struct {
	Database string   `json:"database"`
	Tables   []string `json:"tables"`
	Rescue   bool     `json:"rescue,omitempty" doc:"they are those that the first transaction after it touched"`
}

// WayIn is a way to log in to a copy.
type WayIn struct {
	Who     string `json:"who" doc:"who gets in that way"`
	Command string `json:"command"`
}

// Proof is the verdict on a copy, check by check.
type Proof struct {
	ID         string    `json:"id"`
	Copy       string    `json:"copy"`
	Backup     string    `json:"backup,omitempty" doc:"the base backup that the copy began with"`
	Moment     string    `json:"moment"`
	Verdict    string    `json:"verdict" enum:"passed,failed,could not run"`
	Checks     []Check   `json:"checks"`
	StartedAt  time.Time `json:"startedAt"`
	FinishedAt time.Time `json:"finishedAt"`
	Task       string    `json:"task"`
	ReportHash string    `json:"reportHash,omitempty" doc:"SHA-256 of the report as HTML, as it is kept in the store"`
}

// Report is something written down for others.
type Report struct {
	Name    string `json:"name" doc:"of a file to put it into"`
	Type    string `json:"type" doc:"media type"`
	Content string `json:"content"`
	SHA256  string `json:"sha256" doc:"of the content, in hex"`
}

// OwnCheck is a check of the DBA's own, made with every proof of a cluster's copies.
type OwnCheck struct {
	Name     string    `json:"name"`
	Version  int       `json:"version"`
	SQL      string    `json:"query"`
	Database string    `json:"database"`
	Role     string    `json:"role" doc:"that it is run as, and that is no superuser"`
	Expects  string    `json:"expects" doc:"no rows, some rows, value 100..200, same as live, same as last time"`
	Seconds  int       `json:"seconds" doc:"that it may take"`
	AddedAt  time.Time `json:"addedAt"`
	Removed  bool      `json:"removed,omitempty"`
}

// SetOwnCheckRequest adds a check, or a version of one.
type SetOwnCheckRequest struct {
	SQL      string `json:"query" minLength:"1" maxLength:"100000" doc:"one query, which only reads"`
	Database string `json:"database" minLength:"1"`
	Role     string `json:"role" minLength:"1" doc:"that it is run as, on the copy; no superuser"`
	Expects  string `json:"expects" minLength:"1" doc:"no rows, some rows, value 100..200, same as live, same as last time"`
	Seconds  int    `json:"seconds" minimum:"1" maximum:"86400" default:"60" doc:"that it may take"`
}

// Check is one checked property with its figures.
type Check struct {
	Name    string    `json:"name"`
	Area    string    `json:"area" doc:"boundary, bytes, structure, meaning, content, log, own checks"`
	Verdict string    `json:"verdict" enum:"passed,failed,could not run"`
	Summary string    `json:"summary" doc:"one sentence with the figures"`
	Seconds float64   `json:"seconds" doc:"that it took"`
	Shows   string    `json:"shows,omitempty" doc:"what it can show at most"`
	Lacks   string    `json:"lacks,omitempty" doc:"what it cannot"`
	Next    string    `json:"next,omitempty" doc:"what to do, unless it has passed"`
	Wrong   []Finding `json:"wrong,omitempty" doc:"at most the first 20; the summary has their number"`
	LeftOut []Finding `json:"leftOut,omitempty" doc:"what could not be looked at, at most the first 20"`
	Notes   []string  `json:"notes,omitempty" doc:"what is worth knowing and no fault"`
	Tables  []Table   `json:"tables,omitempty"`
	Value   *string   `json:"value,omitempty" doc:"what the query of a check of the DBA's own gave"`
}

// Finding is a place and what is to be said of it.
type Finding struct {
	Where string `json:"where"`
	What  string `json:"what"`
}

// Table is one table of the copy, beside the live cluster.
type Table struct {
	Database string `json:"database"`
	OID      uint32 `json:"oid"`
	Name     string `json:"table" doc:"schema.table"`
	Copy     int64  `json:"copyRows"`
	Sum      string `json:"sum,omitempty" doc:"of the hashes of the rows' texts, whatever their order"`
	Columns  string `json:"columns,omitempty" doc:"a hash of the names and types of those of which the sum is"`
	Live     *int64 `json:"liveRows,omitempty" doc:"rows in the live cluster when the proof ran; absent where it could not be read"`
	LiveSum  string `json:"liveSum,omitempty"`
	Problem  string `json:"problem,omitempty" doc:"why the table could not be read on the copy"`
	Unsafe   bool   `json:"unsafe,omitempty" doc:"not read: that would call its owner's functions with more rights"`
	Locked   bool   `json:"locked,omitempty" doc:"it could not be read because a transaction that was open at the moment holds it"`
	Damaged  bool   `json:"damaged,omitempty" doc:"it could not be read because of pages that are damaged"`
	Aside    bool   `json:"aside,omitempty" doc:"it was read on a second copy, opened for that"`
	Cause    string `json:"cause,omitempty" doc:"what explains the difference, in words"`
	Agrees   string `json:"agrees,omitempty" doc:"verdict on the difference"`
}

// MakeCopyRequest asks for a side copy.
type MakeCopyRequest struct {
	Moment string `json:"moment" doc:"in the moment language; a time needs its zone"`
	Host   string `json:"host,omitempty" doc:"name of the host with an agent that it is made on; left out, the service's own"`
	Name   string `json:"name,omitempty" doc:"short name of the copy; left out, one is made from the cluster's"`
	// Over has it be laid over the original's own files.
	Over    bool   `json:"over,omitempty" doc:"stop the original, and lay the copy over its own files, where there is no room for both"`
	Confirm string `json:"confirm,omitempty" doc:"name of the cluster, where its files are laid over"`
	Port    int    `json:"port,omitempty" minimum:"1024" maximum:"65535" doc:"on 127.0.0.1; left out, a free one is chosen"`
	// Only and Rescue have it be partial.
	Only     []string `json:"only,omitempty" doc:"tables that it is to hold, and none besides; a query on another fails"`
	Database string   `json:"database,omitempty" doc:"of those tables; left out, the one that the cluster is connected to by"`
	Rescue   bool     `json:"rescue,omitempty" doc:"let it hold what the first transaction after the moment touched, where that can be"`
	Also     []uint64 `json:"also,omitempty" doc:"other transactions that are to be rescued with it"`
}

// StepCopyRequest moves a paused copy.
type StepCopyRequest struct {
	Moment string `json:"moment" doc:"in the moment language; a time needs its zone"`
}
