// Package wire is the shapes of the API: what goes over the wire between the
// service and its clients. LSNs are text in the server's notation, times RFC 3339
// in UTC, sizes in bytes.
//
// Invariant: it holds no behaviour, so that the command line can share it without
// sharing the service.
package wire

import (
	"time"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/proof"
	"velvetrewind/core/reach"
	"velvetrewind/engine/readiness"
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
	Holes         []reach.Hole `json:"holes" doc:"WAL that is missing"`
	LastBackup    *Backup      `json:"lastBackup,omitempty"`
	LastProof     *Proof       `json:"lastProof,omitempty"`
	Incidents     []Incident   `json:"incidents" doc:"those that nobody has settled, newest first"`
	MeasuredAt    time.Time    `json:"measuredAt" doc:"when these figures were taken"`
}

// Capture is how far a capture has got.
type Capture struct {
	State      string     `json:"state" enum:"rebuilding,starting,streaming,retrying,stopped,failed"`
	Wanted     bool       `json:"wanted"`
	Problem    string     `json:"problem,omitempty"`
	Timeline   uint32     `json:"timeline"`
	Flushed    pg.LSN     `json:"flushed" doc:"everything before it is safe here"`
	Stored     pg.LSN     `json:"stored" doc:"everything before it is in the store"`
	Server     pg.LSN     `json:"server" doc:"how far the server's WAL had got when last heard of"`
	LagBytes   int64      `json:"lagBytes" doc:"written by the server and not safe here"`
	CompleteTo *time.Time `json:"completeTo,omitempty" doc:"server time up to which all WAL was safe here"`
	Since      time.Time  `json:"since" doc:"of this state"`
}

// Backup is a complete base backup.
type Backup struct {
	ID          string                   `json:"id"`
	Cluster     string                   `json:"cluster" doc:"name"`
	Kind        string                   `json:"kind" enum:"full"`
	Timeline    uint32                   `json:"timeline"`
	Start       pg.LSN                   `json:"start"`
	Stop        pg.LSN                   `json:"stop" doc:"moments from here on can be reached with it"`
	StartedAt   time.Time                `json:"startedAt"`
	StoppedAt   time.Time                `json:"stoppedAt"`
	Files       int64                    `json:"files"`
	BytesRead   int64                    `json:"bytesRead"`
	BytesStored int64                    `json:"bytesStored"`
	Pages       int64                    `json:"pages" doc:"pages whose checksums were verified"`
	PageFaults  int64                    `json:"pageFaults" doc:"damaged pages found"`
	Tablespaces []layout.TablespaceEntry `json:"tablespaces"`
	Task        string                   `json:"task" doc:"whose log tells how it was taken"`
}

// Copy is a restored cluster that we run.
type Copy struct {
	ID         string       `json:"id"`
	Cluster    string       `json:"cluster" doc:"name of the original"`
	Moment     string       `json:"moment"`
	State      string       `json:"state" enum:"laying out,replaying,paused,open,down,discarded"`
	Problem    string       `json:"problem,omitempty"`
	Port       int          `json:"port" doc:"on 127.0.0.1"`
	Directory  string       `json:"directory"`
	Plan       plan.Restore `json:"plan"`
	Replayed   pg.LSN       `json:"replayed" doc:"how far replay has come"`
	ReplayedTo *time.Time   `json:"replayedTo,omitempty" doc:"commit time of the last transaction replayed"`
	CreatedAt  time.Time    `json:"createdAt"`
	Task       string       `json:"task"`
	Proof      *Proof       `json:"proof,omitempty" doc:"the newest one"`
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
	Kind       string         `json:"kind" enum:"backup,side copy,open copy,discard copy,proof,drop backup,audit,rebuild"`
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
