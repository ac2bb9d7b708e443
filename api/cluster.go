package api

import (
	"time"

	"velvetrewind/core/pg"
)

// Cluster is a protected cluster and how it stands.
type Cluster struct {
	ID            string     `json:"id"`
	Name          string     `json:"name"`
	ConnString    string     `json:"connString" doc:"without the password, which is never shown"`
	SystemID      string     `json:"systemId"`
	ServerVersion int        `json:"serverVersion" doc:"server_version_num"`
	Checksums     bool       `json:"dataChecksums"`
	Slot          string     `json:"slot" doc:"replication slot on the server"`
	CreatedAt     time.Time  `json:"createdAt"`
	Capture       Capture    `json:"capture"`
	Reach         []Span     `json:"reach" doc:"what can be restored, by timeline and LSN"`
	Holes         []Hole     `json:"holes" doc:"WAL that is missing"`
	LastBackup    *Backup    `json:"lastBackup,omitempty"`
	LastProof     *Proof     `json:"lastProof,omitempty" doc:"without its checks"`
	Incidents     []Incident `json:"incidents" doc:"those that nobody has settled, newest first"`
	MeasuredAt    time.Time  `json:"measuredAt" doc:"when these figures were taken"`

	Labels    map[string]string `json:"labels" doc:"by which policies find it"`
	Policy    string            `json:"policy,omitempty" doc:"name of the policy that applies to it"`
	Backups   int               `json:"backups" doc:"how many base backups there are"`
	Promise   Promise           `json:"promise"`
	LateSince *time.Time        `json:"lateSince,omitempty" doc:"when the calendar's base backup was due that has not come"`
	Needs     []Need            `json:"needs" doc:"what needs attention, the worst first"`
}

// Promise is what a cluster's keep rule promises, beside what can be reached.
type Promise struct {
	Words    string     `json:"words" doc:"the rule in words"`
	Since    time.Time  `json:"since" doc:"any moment since then is promised"`
	Held     bool       `json:"held"`
	HeldFrom *time.Time `json:"heldFrom,omitempty" doc:"since when, without a gap, every moment can be reached"`
}

// Hole is WAL that is missing between two captured stretches of a timeline.
type Hole struct {
	Timeline pg.Timeline `json:"timeline"`
	From     pg.LSN      `json:"from"`
	To       pg.LSN      `json:"to"`
	Cause    string      `json:"cause"`
	Meant    bool        `json:"meant" doc:"it was deleted by rule"`
	Until    *time.Time  `json:"until,omitempty" doc:"when moments can be reached again; missing until a base backup is taken"`
}

// Capture is how far a capture has got.
type Capture struct {
	State      string     `json:"state" enum:"rebuilding,starting,streaming,catching up,waiting for the store,paused,retrying,stopped,failed"`
	Wanted     bool       `json:"wanted"`
	Problem    string     `json:"problem,omitempty"`
	Timeline   uint32     `json:"timeline"`
	Flushed    pg.LSN     `json:"flushed" doc:"everything before it is safe here"`
	Stored     pg.LSN     `json:"stored" doc:"everything before it is in the store"`
	Server     pg.LSN     `json:"server" doc:"how far the server's WAL had got when last heard of"`
	LagBytes   int64      `json:"lagBytes" doc:"written by the server and not safe here"`
	CompleteTo *time.Time `json:"completeTo,omitempty" doc:"server time up to which all WAL was safe here"`
	Since      time.Time  `json:"since" doc:"of this state"`

	Spooled        int64   `json:"spooled" doc:"bytes that were received and wait for the store"`
	Retained       int64   `json:"retained" doc:"bytes of WAL that the slot has the server retain"`
	Room           int64   `json:"room" doc:"bytes that it can retain besides; -1: it has no limit, and its disk is not known"`
	ClockAhead     float64 `json:"clockAhead" doc:"seconds by which the server's clock is ahead of the service's"`
	AuthorsProblem string  `json:"authorsProblem,omitempty" doc:"why it is not seen who writes"`
	AuthorsLook    float64 `json:"authorsLook" doc:"seconds that a look at who writes takes; 0 before the first"`
	ReadableTo     pg.LSN  `json:"readableTo,omitempty" doc:"where the segment that is being received is damaged"`
}

// Span is a stretch of one timeline that can be restored.
type Span struct {
	Timeline pg.Timeline `json:"timeline"`
	Base     string      `json:"base" doc:"the oldest base backup that reaches into it"`
	From     pg.LSN      `json:"from"`
	To       pg.LSN      `json:"to"`
	FromTime time.Time   `json:"fromTime"`
	ToTime   time.Time   `json:"toTime"`
}

// Need is one thing that needs attention.
type Need struct {
	Kind    string `json:"kind" enum:"capture,store,no base,hole,promise,late,rehearsal,clock,incident,damage,aside"`
	Text    string `json:"text" doc:"one sentence"`
	Command string `json:"command" doc:"what deals with it, or shows more"`
}

// AddedCluster is a registered cluster with what was found out about it.
type AddedCluster struct {
	Task      string          `json:"task,omitempty" doc:"that takes the first base backup"`
	Cluster   Cluster         `json:"cluster"`
	Readiness ReadinessReport `json:"readiness"`
}

// Link is a one-time link.
type Link struct {
	Path    string    `json:"path" doc:"to be put after the service's address"`
	Expires time.Time `json:"expires"`
}

// Login is how to reach a cluster.
type Login struct {
	ConnString          string `json:"connString" doc:"URL or keyword=value, without a password"`
	Password            string `json:"password,omitempty"`
	ReplicationUser     string `json:"replicationUser,omitempty" doc:"role of replication sessions, if it is another"`
	ReplicationPassword string `json:"replicationPassword,omitempty"`
}

// AddClusterRequest registers a cluster.
type AddClusterRequest struct {
	Name       string `json:"name" doc:"by which you will call it: lower-case letters, digits, - and _"`
	ConnString string `json:"connString" doc:"URL or keyword=value, without a password"`
	Password   string `json:"password,omitempty" doc:"kept encrypted, never shown again; leave it out to use the service's password file"`

	ReplicationUser     string `json:"replicationUser,omitempty" doc:"role of replication sessions, if it is another"`
	ReplicationPassword string `json:"replicationPassword,omitempty"`

	Labels map[string]string `json:"labels,omitempty" doc:"by which policies find it"`
	NoBase bool              `json:"noBase,omitempty" doc:"do not take the first base backup at once"`
}

// CopiesUserRequest says as which OS user a cluster's copies run.
type CopiesUserRequest struct {
	User string `json:"user" doc:"one of those that the service was started with; empty for the first of them"`
}

// SecondStoreRequest says whether a cluster is copied to the second store.
type SecondStoreRequest struct {
	Wanted bool `json:"wanted"`
}
