package wire

import (
	"time"

	"velvetrewind/core/calendar"
	"velvetrewind/core/keep"
)

// Keep is what a cluster keeps.
type Keep struct {
	Cluster string     `json:"cluster" doc:"name"`
	Rule    keep.Rule  `json:"rule"`
	From    string     `json:"from" doc:"whose rule it is: its own, policy NAME, the default"`
	Promise Promise    `json:"promise"`
	Pins    []Pin      `json:"pins"`
	NextRun *time.Time `json:"nextRun,omitempty" doc:"when the calendar applies the rule next"`
	Deleted *Deleted   `json:"deleted,omitempty" doc:"what was deleted and can be taken back still"`
}

// Deleted is what was deleted of a cluster and is not gone for good yet.
type Deleted struct {
	Backups  []DeletedBackup `json:"backups"`
	Segments int64           `json:"segments" doc:"WAL segments"`
	Bytes    int64           `json:"bytes" doc:"of WAL"`
	// WALUntil is when the first of the WAL is gone, at the earliest.
	WALUntil *time.Time `json:"walUntil,omitempty" doc:"until when all of the WAL can be taken back"`
}

// DeletedBackup is a base backup that was deleted.
type DeletedBackup struct {
	ID      string    `json:"id"`
	TakenAt time.Time `json:"takenAt"`
	Until   time.Time `json:"until" doc:"until when it can be taken back"`
}

// Pin keeps a base backup whatever the rule says.
type Pin struct {
	Backup   string     `json:"backup"`
	Reason   string     `json:"reason"`
	Until    *time.Time `json:"until,omitempty"`
	PinnedAt time.Time  `json:"pinnedAt"`
}

// Policy is what applies to all clusters that have its labels.
type Policy struct {
	Name         string            `json:"name"`
	Labels       map[string]string `json:"labels" doc:"of the clusters it applies to; they must have them all"`
	Keep         *keep.Rule        `json:"keep,omitempty" doc:"for clusters without a rule of their own"`
	SecondStore  *bool             `json:"secondStore,omitempty" doc:"whether its clusters are copied to the second store; left out, each says so itself"`
	CaptureAlert *int              `json:"captureAlertSeconds,omitempty" minimum:"1" doc:"a capture that stands still for so long needs a person"`
	Clusters     []string          `json:"clusters" readOnly:"true" doc:"names of those it applies to"`
}

// Entry is something of the calendar.
type Entry struct {
	ID       string            `json:"id"`
	Cluster  string            `json:"cluster,omitempty" doc:"name"`
	Policy   string            `json:"policy,omitempty" doc:"name; neither means the store"`
	Work     string            `json:"work" enum:"backup,keep,audit"`
	Detail   string            `json:"detail,omitempty" doc:"the kind of base backup: full, incremental, auto; or of audit: quick, full"`
	Schedule calendar.Schedule `json:"schedule"`
	Words    string            `json:"words" doc:"the schedule in words"`
	Paused   bool              `json:"paused"`
	Clusters int               `json:"clusters" doc:"how many it is about"`
	Next     []calendar.Run    `json:"next" doc:"the next runs, of the first cluster"`
	Last     *Begun            `json:"last,omitempty" doc:"what was begun last"`
}

// Upcoming is when a schedule would run.
type Upcoming struct {
	Words string         `json:"words" doc:"the schedule in words"`
	Runs  []calendar.Run `json:"runs"`
}

// Begun is a run of the calendar that was begun.
type Begun struct {
	Cluster string    `json:"cluster,omitempty" doc:"name"`
	Due     time.Time `json:"due"`
	At      time.Time `json:"at"`
	Task    string    `json:"task,omitempty"`
	Problem string    `json:"problem,omitempty" doc:"why it was not begun"`
}
