package api

import "time"

// Rehearsal is a copy that was made to be proved and discarded.
type Rehearsal struct {
	ID       string     `json:"id" doc:"of its task, too"`
	Cluster  string     `json:"cluster"`
	Pick     string     `json:"pick" doc:"latest, random, oldest, or a moment"`
	AskedBy  string     `json:"askedBy"`
	Try      int        `json:"try"`
	BegunAt  *time.Time `json:"begunAt,omitempty"`
	EndedAt  *time.Time `json:"endedAt,omitempty"`
	Moment   string     `json:"moment,omitempty"`
	Backup   string     `json:"backup,omitempty"`
	Proof    string     `json:"proof,omitempty"`
	Outcome  string     `json:"outcome,omitempty" enum:"passed,failed,could not run,no copy,cancelled"`
	Cause    string     `json:"cause,omitempty" doc:"why it was not good"`
	LaidOut  float64    `json:"laidOutSeconds"`
	Replayed float64    `json:"replayedSeconds"`
	Proved   float64    `json:"provedSeconds"`
	Bytes    int64      `json:"bytes" doc:"that were laid out"`
	WAL      int64      `json:"walBytes" doc:"that were replayed"`
	Lost     *float64   `json:"lostSeconds,omitempty" doc:"how old the newest moment was that could be reached; only of latest"`
	Estimate *float64   `json:"estimatedSeconds,omitempty" doc:"that it was to take, by the rehearsals before"`
}

// RehearseRequest asks for a rehearsal.
type RehearseRequest struct {
	Pick string `json:"pick,omitempty" doc:"latest (the default), random, oldest, or a moment; a time needs its zone"`
}

// Objective is what a cluster is to keep to.
type Objective struct {
	BackWithin   int `json:"backWithinSeconds" minimum:"0" doc:"it is to be back within so long; 0: nothing is said"`
	LosingAtMost int `json:"losingAtMostSeconds" minimum:"0" doc:"losing at most so much; 0: nothing is said"`
}

// Digest is what the rehearsals of all clusters come to over a span of time.
type Digest struct {
	From  time.Time    `json:"from"`
	To    time.Time    `json:"to"`
	First string       `json:"first" doc:"which clusters could not be brought back today"`
	Lines []DigestLine `json:"lines" doc:"the worst first"`
}

// DigestLine is what there is to say of one cluster.
type DigestLine struct {
	Cluster     string            `json:"cluster"`
	Standing    string            `json:"standing" enum:"cannot be brought back,nothing can be reached,never proved,proved in part,proved"`
	Why         string            `json:"why,omitempty"`
	Reach       *time.Time        `json:"reach,omitempty" doc:"since when every moment can be reached"`
	Promised    *time.Time        `json:"promised,omitempty" doc:"since when every moment should be"`
	PromiseKept bool              `json:"promiseKept"`
	Objective   Objective         `json:"objective"`
	Last        *Rehearsal        `json:"last,omitempty"`
	Runs        int               `json:"runs"`
	Good        int               `json:"good"`
	Back        float64           `json:"backSeconds" doc:"median time until a copy was proved; 0 where none was"`
	Worst       float64           `json:"worstSeconds"`
	Lost        *float64          `json:"lostSeconds,omitempty" doc:"the largest loss"`
	Kept        *bool             `json:"kept,omitempty" doc:"whether the objective was kept by all"`
	Trend       float64           `json:"trend" doc:"0.1: the newer half took a tenth longer than the older"`
	Failures    []DigestFailure   `json:"failures"`
	Days        map[string]string `json:"days" doc:"outcome by day in UTC; of several the worst"`
}

// DigestFailure is a rehearsal that was not good, and what came of it.
type DigestFailure struct {
	At    time.Time `json:"at"`
	Cause string    `json:"cause"`
	Then  string    `json:"then"`
}
