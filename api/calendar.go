package api

import (
	"time"
)

// Policy is what applies to all clusters that have its labels.
type Policy struct {
	Name         string            `json:"name"`
	Labels       map[string]string `json:"labels" doc:"of the clusters it applies to; they must have them all"`
	Keep         *KeepRule         `json:"keep,omitempty" doc:"for clusters without a rule of their own"`
	SecondStore  *bool             `json:"secondStore,omitempty" doc:"copy its clusters to the second store; left out, each says so itself"`
	CaptureAlert *int              `json:"captureAlertSeconds,omitempty" minimum:"1" doc:"after which a still capture needs attention"`
	Clusters     []string          `json:"clusters" readOnly:"true" doc:"names of those it applies to"`
}

// Entry is something of the calendar.
type Entry struct {
	ID       string           `json:"id"`
	Cluster  string           `json:"cluster,omitempty" doc:"name"`
	Policy   string           `json:"policy,omitempty" doc:"name; neither means the store"`
	Work     string           `json:"work" enum:"backup,keep,audit,rehearsal"`
	Detail   string           `json:"detail,omitempty" doc:"the kind of base backup: full, incremental, auto; or of audit: quick, full"`
	Schedule CalendarSchedule `json:"schedule"`
	Words    string           `json:"words" doc:"the schedule in words"`
	Paused   bool             `json:"paused"`
	Clusters int              `json:"clusters" doc:"how many it is about"`
	Next     []CalendarRun    `json:"next" doc:"the next runs, of the first cluster"`
	Last     *Begun           `json:"last,omitempty" doc:"what was begun last"`
}

// Upcoming is when a schedule would run.
type Upcoming struct {
	Words string        `json:"words" doc:"the schedule in words"`
	Runs  []CalendarRun `json:"runs"`
}

// Begun is a run of the calendar that was begun.
type Begun struct {
	Cluster string    `json:"cluster,omitempty" doc:"name"`
	Due     time.Time `json:"due"`
	At      time.Time `json:"at"`
	Task    string    `json:"task,omitempty"`
	Problem string    `json:"problem,omitempty" doc:"why it was not begun"`
}

// CalendarSchedule says when work is due, by exactly one of Cron, EveryHours and At.
type CalendarSchedule struct {
	Cron       string           `json:"cron,omitempty" doc:"five fields: minute, hour, day of the month, month, weekday"`
	EveryHours int              `json:"everyHours,omitempty" doc:"counted from midnight UTC" minimum:"0" maximum:"8784"`
	At         string           `json:"at,omitempty" doc:"time of day, as 02:30"`
	Weekdays   []string         `json:"weekdays,omitempty" doc:"with at: mon, tue, wed, thu, fri, sat, sun; none for every day"`
	Zone       string           `json:"zone,omitempty" doc:"time zone by its name, as Europe/Lisbon; UTC if left out"`
	Jitter     int              `json:"jitter,omitempty" doc:"minutes by which clusters are spread" minimum:"0" maximum:"1440"`
	Quiet      []CalendarWindow `json:"quiet,omitempty" doc:"nothing begins in these; it begins when they end"`
}

// CalendarWindow is a part of the day in which nothing begins.
type CalendarWindow struct {
	From     string   `json:"from" doc:"time of day, as 08:00"`
	To       string   `json:"to" doc:"time of day; before from, it is of the next day"`
	Weekdays []string `json:"weekdays,omitempty" doc:"on which it begins; none for every day"`
}

// CalendarRun is one time at which work is due.
type CalendarRun struct {
	At   time.Time `json:"at"`
	Note string    `json:"note,omitempty" doc:"why it is not at the time that was written down"`
}

// AddEntryRequest puts something into the calendar.
type AddEntryRequest struct {
	Cluster  string           `json:"cluster,omitempty" doc:"name or id"`
	Policy   string           `json:"policy,omitempty" doc:"name; neither means the store"`
	Work     string           `json:"work" enum:"backup,keep,audit,rehearsal"`
	Detail   string           `json:"detail,omitempty" doc:"the kind of base backup: full, incremental, auto; or of audit: quick, full"`
	Schedule CalendarSchedule `json:"schedule"`
}

// PreviewScheduleRequest asks when a schedule would run.
type PreviewScheduleRequest struct {
	Schedule CalendarSchedule `json:"schedule"`
	Count    int              `json:"count,omitempty" minimum:"1" maximum:"100" default:"10"`
}

// PauseEntryRequest pauses an entry, or resumes it.
type PauseEntryRequest struct {
	Paused bool `json:"paused"`
}

// SetPolicyRequest makes a policy, or changes it.
type SetPolicyRequest struct {
	Labels       map[string]string `json:"labels"`
	Keep         *KeepRule         `json:"keep,omitempty"`
	SecondStore  *bool             `json:"secondStore,omitempty"`
	CaptureAlert *int              `json:"captureAlertSeconds,omitempty" minimum:"1"`
}
