package api

import "time"

// Takeover is what putting a copy in the place of its original would do, or did.
type Takeover struct {
	ID      string `json:"id,omitempty" doc:"empty for one that was not begun"`
	Cluster string `json:"cluster"`
	Copy    string `json:"copy"`
	Moment  string `json:"moment"`
	Step    string `json:"step,omitempty" doc:"as docs/operations.md lists them; in service, as before or laid over at the end"`
	// Original is how the original runs.
	Original TakeoverOriginal `json:"original"`
	Aside    []string         `json:"aside" doc:"what the original's directories are called afterwards"`
	Removed  bool             `json:"removed,omitempty" doc:"what was set aside is gone"`
	// KeptUntil is when what was set aside is offered for deletion.
	KeptUntil *time.Time    `json:"keptUntil,omitempty" doc:"when what was set aside is offered for deletion; nothing removes it by itself"`
	BegunAt   *time.Time    `json:"begunAt,omitempty"`
	EndedAt   *time.Time    `json:"endedAt,omitempty"`
	Problem   string        `json:"problem,omitempty" doc:"why it went back"`
	Plan      *TakeoverPlan `json:"plan,omitempty"`
}

// TakeoverOriginal is a server as it is run.
type TakeoverOriginal struct {
	DataDirectory string   `json:"dataDirectory"`
	User          string   `json:"user"`
	Unit          string   `json:"unit,omitempty" doc:"of systemd; by pg_ctl without one"`
	Arguments     []string `json:"arguments"`
	Running       bool     `json:"running"`
	Lost          bool     `json:"lost,omitempty" doc:"its directory is; the rest is as it was last seen"`
}

// TakeoverPlan is what a person should know before the word.
type TakeoverPlan struct {
	Boundary  Boundary        `json:"boundary"`
	Cost      Cost            `json:"cost"`
	Verdict   string          `json:"verdict,omitempty" doc:"of the newest proof of the copy where it stands"`
	Connected []TakeoverUsers `json:"connected" doc:"who would be cut off"`
	Standbys  []TakeoverUsers `json:"standbys" doc:"that follow the original: they are beyond the moment, and must be made anew"`
	Brought   []string        `json:"brought" doc:"places on another file system, beside which the copy's directories are copied first"`
	Unknown   string          `json:"unknown,omitempty" doc:"why it is not known who is connected"`
	Obstacles []Problem       `json:"obstacles" doc:"without which it could be begun"`
	Loss      string          `json:"loss" doc:"in a sentence"`
}

// TakeoverUsers are sessions on the original, or standbys of it.
type TakeoverUsers struct {
	Role        string `json:"role"`
	Application string `json:"application,omitempty"`
	Address     string `json:"address,omitempty"`
	Sessions    int    `json:"sessions"`
}

// TakeoverRequest has a takeover begin.
type TakeoverRequest struct {
	Confirm  string `json:"confirm,omitempty" doc:"name of the cluster"`
	Despite  bool   `json:"despite,omitempty" doc:"also where the proof of the copy does not say that it passed"`
	Refuse   bool   `json:"refuseClients,omitempty" doc:"refuse clients, and end their sessions, as soon as it begins"`
	HostLost bool   `json:"hostLost,omitempty" doc:"the original's host is lost for good: the copy serves where it is"`
	Quick    bool   `json:"quick,omitempty" doc:"where the copy was not proved, only check what takes no longer for a larger one"`
}
