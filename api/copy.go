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
	Port       int        `json:"port" doc:"on 127.0.0.1"`
	WaysIn     []WayIn    `json:"waysIn" doc:"how to look at it"`
	Directory  string     `json:"directory"`
	Plan       Restore    `json:"plan"`
	Replayed   pg.LSN     `json:"replayed" doc:"how far replay has come"`
	ReplayedTo *time.Time `json:"replayedTo,omitempty" doc:"commit time of the last transaction replayed"`
	CreatedAt  time.Time  `json:"createdAt"`
	Task       string     `json:"task"`
	Proof      *Proof     `json:"proof,omitempty" doc:"the newest one"`
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
	Moment     string    `json:"moment"`
	Verdict    string    `json:"verdict" enum:"passed,failed,could not run"`
	Checks     []Check   `json:"checks"`
	StartedAt  time.Time `json:"startedAt"`
	FinishedAt time.Time `json:"finishedAt"`
	Task       string    `json:"task"`
}

// Check is one checked property with its figures.
type Check struct {
	Name    string  `json:"name"`
	Verdict string  `json:"verdict"`
	Summary string  `json:"summary" doc:"one sentence with the figures"`
	Tables  []Table `json:"tables,omitempty"`
}

// Table is one table read to the end on the copy, beside the live cluster.
type Table struct {
	Database string `json:"database"`
	Name     string `json:"table" doc:"schema.table"`
	Copy     int64  `json:"copyRows"`
	Live     *int64 `json:"liveRows,omitempty" doc:"rows in the live cluster when the proof ran; absent where it could not be read"`
	Problem  string `json:"problem,omitempty" doc:"why the table could not be read on the copy"`
	Unsafe   bool   `json:"unsafe,omitempty" doc:"not read: that would call its owner's functions with more rights"`
	Locked   bool   `json:"locked,omitempty" doc:"it could not be read because a transaction that was open at the moment holds it"`
}

// MakeCopyRequest asks for a side copy.
type MakeCopyRequest struct {
	Moment string `json:"moment" doc:"in the moment language; a time needs its zone"`
	Name   string `json:"name,omitempty" doc:"short name of the copy; left out, one is made from the cluster's"`
	Port   int    `json:"port,omitempty" minimum:"1024" maximum:"65535" doc:"on 127.0.0.1; left out, a free one is chosen"`
}

// StepCopyRequest moves a paused copy.
type StepCopyRequest struct {
	Moment string `json:"moment" doc:"in the moment language; a time needs its zone"`
}
