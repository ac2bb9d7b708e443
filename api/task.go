package api

import (
	"time"
)

// Task is one piece of work.
type Task struct {
	ID         string         `json:"id"`
	Kind       string         `json:"kind" enum:"backup,side copy,step copy,open copy,discard copy,proof,drop backup,keep run,audit,rebuild,second store,rehearsal,takeover,remove what was set aside,rescue,comparison,repair"`
	Cluster    string         `json:"cluster,omitempty" doc:"name"`
	Subject    string         `json:"subject,omitempty" doc:"id of the backup or copy it is about"`
	State      string         `json:"state" enum:"waiting,running,done,failed,cancelled"`
	Done       int64          `json:"done"`
	Total      int64          `json:"total" doc:"0 where it is not known"`
	Unit       string         `json:"unit"`
	Note       string         `json:"note,omitempty" doc:"what it is doing"`
	Outcome    map[string]any `json:"outcome,omitempty"`
	Problem    *Problem       `json:"problem,omitempty"`
	CreatedAt  time.Time      `json:"createdAt"`
	StartedAt  *time.Time     `json:"startedAt,omitempty"`
	FinishedAt *time.Time     `json:"finishedAt,omitempty"`
	Seconds    float64        `json:"seconds" doc:"how long it has run, or ran"`
	Rate       float64        `json:"rate" doc:"units a second since it began, 0 where it is not known"`
	Left       *float64       `json:"left,omitempty" doc:"seconds that it may still take"`
}

// Line is a line of a task's log.
type Line struct {
	Number int       `json:"number"`
	At     time.Time `json:"at"`
	Level  string    `json:"level" enum:"info,warning"`
	Text   string    `json:"text"`
}
