package wire

import (
	"encoding/json"
	"io/fs"

	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/engine/host"
)

// Nothing is asked or answered.
type Nothing struct{}

// About is what a host agent says of itself and its machine.
type About struct {
	Version    int      `json:"version"`    // of the questions
	Velvet     string   `json:"velvet"`     // of the program
	Users      []string `json:"users"`      // OS users that servers may run as, the first unless another is asked for
	Copies     string   `json:"copies"`     // directory
	Program    string   `json:"program"`    // the velvet that recovering servers call
	Majors     []int    `json:"majors"`     // versions of PostgreSQL whose programs are installed
	MostCopies int      `json:"mostCopies"` // copies that may stand there at once; 0 for no limit
	MostBytes  int64    `json:"mostBytes"`
	Free       int64    `json:"free"`   // bytes, in the copies' directory
	Memory     int64    `json:"memory"` // bytes, of the machine
	Cores      int      `json:"cores"`
	Service    string   `json:"service"`   // base URL by which it reaches the service
	Databases  []string `json:"databases"` // directories in which originals lie that may be taken over
}

// Place is a name in a directory, for an OS user.
type Place struct{ User, Dir, Name string }

// Made is a name to be made.
type Made struct {
	Place
	Mode fs.FileMode
}

// Handle is an open file, for as long as the connection lasts.
type Handle uint64

// Read is a stretch of a file.
type Read struct {
	File Handle
	At   int64
	Size int
}

// Got is what a stretch holds.
type Got struct {
	Data []byte
	End  bool // the file ends there
}

// Written is to be written.
type Written struct {
	File Handle
	At   int64
	Data []byte
}

// Sized is a length to be given.
type Sized struct {
	File Handle
	Size int64
}

// Content is that of a small file.
type Content struct {
	Place
	Mode fs.FileMode
	Data []byte
}

// Renamed is to have another name.
type Renamed struct {
	Place
	To string
}

// Found is a file below a directory.
type Found struct {
	Name string
	Size int64
}

// Server is one, of an OS user.
type Server struct {
	User string
	host.Server
}

// Stopped is a server to be ended.
type Stopped struct {
	Server
	Mode host.StopMode
}

// Runs tells of a server.
type Runs struct{ Running, Starting bool }

// Tail is a server whose log's end is asked for.
type Tail struct {
	Server
	Size int64
}

// Sought is a data directory that must be of a cluster.
type Sought struct {
	Dir      string
	SystemID uint64
}

// Moved is a directory to have another name.
type Moved struct{ From, To string }

// Brought is a directory to be brought to another file system.
type Brought struct{ User, From, To string }

// Doors are an original's pg_hba.conf.
type Doors struct {
	Original host.Original
	HBA      string // path
	Content  string
}

// Linked is a link to be made to a path.
type Linked struct {
	Place
	To string
}

// LayOrder is a base to be laid out by the host itself.
type LayOrder struct {
	Store           json.RawMessage // place.Place
	Cluster, Backup string
	User, Dir       string
	Over            bool
	Lacks           string // the file, in the directory, that lists what is left out; only LayOutPart leaves anything out
	Total           int64
}

// RepairOrder is a cluster to be repaired by the host itself.
type RepairOrder struct {
	Store json.RawMessage   // place.Place
	Order json.RawMessage   // repair.Order
	Tails map[string][]byte // segments that are not in the store yet, by their names
}

// Laying is how far laying out, or a repair, is.
type Laying struct {
	Line        string // of the log
	Warn        bool
	Note        string
	Done, Total int64
	Unit        task.Unit
	Head        json.RawMessage // at the end: layout.Head, or repair.Outcome
	Kept        int64
}

// The questions.
const (
	TellAbout     = Op[Nothing, About]("About")
	MakeDir       = Op[Made, Nothing]("MakeDir")
	MakeClosedDir = Op[Place, Nothing]("MakeClosedDir")
	Create        = Op[Made, Handle]("Create")
	Reopen        = Op[Made, Handle]("Reopen")
	Open          = Op[Place, Handle]("Open")
	Close         = Op[Handle, Nothing]("Close")
	ReadAt        = Op[Read, Got]("ReadAt")
	WriteAt       = Op[Written, Nothing]("WriteAt")
	Truncate      = Op[Sized, Nothing]("Truncate")
	ReadFile      = Op[Place, []byte]("ReadFile")
	WriteFile     = Op[Content, Nothing]("WriteFile")
	Rename        = Op[Renamed, Nothing]("Rename")
	Look          = Op[Place, host.Entry]("Look")
	Remove        = Op[Place, Nothing]("Remove")
	List          = Op[Place, []host.Entry]("List")
	Describe      = Op[Place, []host.Entry]("Describe")
	Used          = Op[Place, int64]("Used")
	Sync          = Op[Place, Nothing]("Sync")
	RemoveTree    = Op[Place, Nothing]("RemoveTree")
	FreeSpace     = Op[Place, int64]("FreeSpace")
	FreeMemory    = Op[Nothing, int64]("FreeMemory")
	FreePort      = Op[Nothing, int]("FreePort")
	Listens       = Op[int, bool]("Listens")
	SocketDir     = Op[Place, string]("SocketDir")
	DropSocketDir = Op[Place, Nothing]("DropSocketDir")
	Start         = Op[Server, Nothing]("Start")
	Stop          = Op[Stopped, Nothing]("Stop")
	AskRuns       = Op[Server, Runs]("Runs")
	LogTail       = Op[Tail, string]("LogTail")
	Link          = Op[Linked, Nothing]("Link")
	SyncFile      = Op[Handle, Nothing]("SyncFile")
	Inspect       = Op[Sought, host.Original]("Inspect")
	OriginalRuns  = Op[host.Original, bool]("OriginalRuns")
	StopOriginal  = Op[host.Original, Nothing]("StopOriginal")
	StartOriginal = Op[host.Original, Nothing]("StartOriginal")
	HBA           = Op[Doors, string]("HBA")
	Refuse        = Op[Doors, Nothing]("Refuse")
	Admit         = Op[Doors, Nothing]("Admit")
	WorkedIn      = Op[string, bool]("WorkedIn")
	Control       = Op[Place, pg.Control]("Control")
	TablespacesOf = Op[Place, map[uint32]string]("TablespacesOf")
	Spot          = Op[string, host.Spot]("Spot")
	Move          = Op[Moved, Nothing]("Move")
	Bring         = Op[Brought, Nothing]("Bring")
	Asides        = Op[string, []host.Aside]("Asides")
	RemoveAside   = Op[string, Nothing]("RemoveAside")
	Walk          = Stream[Place, []Found]("Walk")
	LayOut        = Stream[LayOrder, Laying]("LayOut")
	LayOutPart    = Stream[LayOrder, Laying]("LayOutPart")
	Repair        = Stream[RepairOrder, Laying]("Repair")
)

// Dial is asked for as a stream of bytes, with the server in the query.
const Dial = "Dial"
