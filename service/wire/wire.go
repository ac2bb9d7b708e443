// Package wire is the shapes of the API: what goes over the wire between the
// service and its clients. LSNs are text in the server's notation, times RFC 3339
// in UTC, sizes in bytes.
//
// Invariant: it holds no behaviour, so that the command line can share it without
// sharing the service.
package wire

import (
	"time"

	"velvetrewind/core/attention"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/proof"
	"velvetrewind/core/reach"
	"velvetrewind/core/readiness"
)

// Cluster is a protected cluster and how it stands.
type Cluster struct {
	ID            string       `json:"id"`
	Name          string       `json:"name"`
	ConnString    string       `json:"connString" doc:"without the password, which is never shown"`
	SystemID      string       `json:"systemId"`
	ServerVersion int          `json:"serverVersion" doc:"server_version_num"`
	Checksums     bool         `json:"dataChecksums"`
	Slot          string       `json:"slot" doc:"replication slot on the server"`
	CreatedAt     time.Time    `json:"createdAt"`
	Capture       Capture      `json:"capture"`
	Reach         []reach.Span `json:"reach" doc:"what can be restored, by timeline and LSN"`
	Holes         []Hole       `json:"holes" doc:"WAL that is missing"`
	LastBackup    *Backup      `json:"lastBackup,omitempty"`
	LastProof     *Proof       `json:"lastProof,omitempty"`
	Incidents     []Incident   `json:"incidents" doc:"those that nobody has settled, newest first"`
	MeasuredAt    time.Time    `json:"measuredAt" doc:"when these figures were taken"`

	Labels    map[string]string `json:"labels" doc:"by which policies find it"`
	Policy    string            `json:"policy,omitempty" doc:"name of the policy that applies to it"`
	Backups   int               `json:"backups" doc:"how many base backups there are"`
	Promise   Promise           `json:"promise"`
	LateSince *time.Time        `json:"lateSince,omitempty" doc:"when the calendar's base backup was due that has not come"`
	Needs     []attention.Need  `json:"needs" doc:"what needs a person, the worst first"`
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
	reach.Hole
	Cause string     `json:"cause"`
	Meant bool       `json:"meant" doc:"it was let go by rule"`
	Until *time.Time `json:"until,omitempty" doc:"moments can be reached again from then on; missing while no base backup has been taken behind it"`
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

	Spooled    int64   `json:"spooled" doc:"bytes that were received and wait for the store"`
	Retained   int64   `json:"retained" doc:"bytes of WAL that the slot has the server retain"`
	Room       int64   `json:"room" doc:"bytes that it can retain besides; -1: it has no limit, and its disk is not known"`
	ClockAhead float64 `json:"clockAhead" doc:"seconds by which the server's clock is ahead of the service's"`
	ReadableTo pg.LSN  `json:"readableTo,omitempty" doc:"where the segment that is being received is damaged"`
}

// Backup is a complete base backup.
type Backup struct {
	ID          string                   `json:"id"`
	Cluster     string                   `json:"cluster" doc:"name"`
	Kind        string                   `json:"kind" enum:"full,incremental" doc:"how it was taken; each is complete in itself"`
	Timeline    uint32                   `json:"timeline"`
	Start       pg.LSN                   `json:"start"`
	Stop        pg.LSN                   `json:"stop" doc:"moments from here on can be reached with it"`
	StartedAt   time.Time                `json:"startedAt"`
	StoppedAt   time.Time                `json:"stoppedAt"`
	Files       int64                    `json:"files"`
	BytesRead   int64                    `json:"bytesRead" doc:"from the server"`
	Beside      string                   `json:"beside,omitempty" doc:"the backup it was compared with when it was taken; it is not needed any more"`
	BytesHeld   int64                    `json:"bytesHeld" doc:"what its files hold together"`
	BytesStored int64                    `json:"bytesStored" doc:"what it added to the store"`
	BytesShared int64                    `json:"bytesShared" doc:"what it shares with older backups, as stored"`
	Extents     int64                    `json:"extents" doc:"pieces of 128 KiB"`
	NewExtents  int64                    `json:"newExtents" doc:"that no older backup held"`
	ZeroExtents int64                    `json:"zeroExtents" doc:"that are all zeroes and stored nowhere"`
	Pages       int64                    `json:"pages" doc:"pages whose checksums were verified"`
	PageFaults  int64                    `json:"pageFaults" doc:"damaged pages known, also from backups before, until they are seen whole"`
	Damaged     []layout.DamagedPage     `json:"damaged" nullable:"false" doc:"these pages"`
	Tablespaces []layout.TablespaceEntry `json:"tablespaces"`
	Task        string                   `json:"task" doc:"whose log tells how it was taken"`
	Lost        bool                     `json:"lost,omitempty" doc:"an audit found that it cannot be read; no plan begins with it"`
}

// Copy is a restored cluster that we run.
type Copy struct {
	ID         string       `json:"id"`
	Name       string       `json:"name" doc:"short; no other copy that stands has it"`
	Cluster    string       `json:"cluster" doc:"name of the original"`
	Moment     string       `json:"moment"`
	State      string       `json:"state" enum:"laying out,replaying,paused,open,down,discarded"`
	Problem    string       `json:"problem,omitempty"`
	Port       int          `json:"port" doc:"on 127.0.0.1"`
	WaysIn     []WayIn      `json:"waysIn" doc:"how to look at it"`
	Directory  string       `json:"directory"`
	Plan       plan.Restore `json:"plan"`
	Replayed   pg.LSN       `json:"replayed" doc:"how far replay has come"`
	ReplayedTo *time.Time   `json:"replayedTo,omitempty" doc:"commit time of the last transaction replayed"`
	CreatedAt  time.Time    `json:"createdAt"`
	Task       string       `json:"task"`
	Proof      *Proof       `json:"proof,omitempty" doc:"the newest one"`
}

// WayIn is a way to log in to a copy.
type WayIn struct {
	Who     string `json:"who" doc:"who gets in that way"`
	Command string `json:"command"`
}

// Proof is the verdict on a copy, check by check.
type Proof struct {
	ID         string        `json:"id"`
	Copy       string        `json:"copy"`
	Moment     string        `json:"moment"`
	Verdict    string        `json:"verdict" enum:"passed,failed,could not run"`
	Checks     []proof.Check `json:"checks"`
	StartedAt  time.Time     `json:"startedAt"`
	FinishedAt time.Time     `json:"finishedAt"`
	Task       string        `json:"task"`
}

// Task is one piece of work.
type Task struct {
	ID         string         `json:"id"`
	Kind       string         `json:"kind" enum:"backup,side copy,step copy,open copy,discard copy,proof,drop backup,keep run,audit,rebuild,second store"`
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

// BackupLine is a line of the report of base backups.
type BackupLine struct {
	ID          string    `json:"id"`
	Cluster     string    `json:"cluster" doc:"name"`
	Kind        string    `json:"kind" enum:"full,incremental"`
	StoppedAt   time.Time `json:"stoppedAt"`
	Seconds     float64   `json:"seconds" doc:"how long it took"`
	BytesHeld   int64     `json:"bytesHeld" doc:"what its files hold together"`
	BytesRead   int64     `json:"bytesRead" doc:"from the server"`
	BytesStored int64     `json:"bytesStored" doc:"what it added to the store"`
	Dropped     bool      `json:"dropped" doc:"it has been let go since"`
}

// Line is a line of a task's log.
type Line struct {
	Number int       `json:"number"`
	At     time.Time `json:"at"`
	Level  string    `json:"level" enum:"info,warning"`
	Text   string    `json:"text"`
}

// AddedCluster is a registered cluster with what was found out about it.
type AddedCluster struct {
	Task      string           `json:"task,omitempty" doc:"that takes the first base backup"`
	Cluster   Cluster          `json:"cluster"`
	Readiness readiness.Report `json:"readiness"`
}

// Link is a one-time link.
type Link struct {
	Path    string    `json:"path" doc:"to be put behind the service's address"`
	Expires time.Time `json:"expires"`
}

// Problem is an error as the API gives it: an RFC 9457 problem document with what
// to do next.
type Problem struct {
	Type   string `json:"type" doc:"urn:velvet:problem: and the kind of problem"`
	Title  string `json:"title" doc:"what could not be done"`
	Status int    `json:"status"`
	Detail string `json:"detail,omitempty" doc:"why"`
	Next   string `json:"next,omitempty" doc:"what to do about it"`
	At     *int   `json:"at,omitempty" doc:"of a moment that cannot be read: the byte at which it goes wrong"`
}

// ProblemType begins the type of every problem.
const ProblemType = "urn:velvet:problem:"

func (p *Problem) Error() string { return p.Title + ": " + p.Detail }

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType names the media type of problem documents.
func (p *Problem) ContentType(string) string { return "application/problem+json" }
