package api

import (
	"time"

	"velvetrewind/core/pg"
)

// Backup is a complete base backup.
type Backup struct {
	ID          string            `json:"id"`
	Cluster     string            `json:"cluster" doc:"name"`
	Kind        string            `json:"kind" enum:"full,incremental" doc:"how it was taken; each is complete in itself"`
	Timeline    uint32            `json:"timeline"`
	Start       pg.LSN            `json:"start"`
	Stop        pg.LSN            `json:"stop" doc:"moments from here on can be reached with it"`
	StartedAt   time.Time         `json:"startedAt"`
	StoppedAt   time.Time         `json:"stoppedAt"`
	Files       int64             `json:"files"`
	BytesRead   int64             `json:"bytesRead" doc:"from the server"`
	Beside      string            `json:"beside,omitempty" doc:"the backup it was compared with; not needed any more"`
	BytesHeld   int64             `json:"bytesHeld" doc:"what its files hold together"`
	BytesStored int64             `json:"bytesStored" doc:"what it added to the store"`
	BytesShared int64             `json:"bytesShared" doc:"what it shares with older backups, as stored"`
	Extents     int64             `json:"extents" doc:"pieces of 128 KiB"`
	NewExtents  int64             `json:"newExtents" doc:"that no older backup held"`
	ZeroExtents int64             `json:"zeroExtents" doc:"that are all zeroes and stored nowhere"`
	Pages       int64             `json:"pages" doc:"pages whose checksums were verified"`
	PageFaults  int64             `json:"pageFaults" doc:"damaged pages known, also from backups before, until they are seen whole"`
	Damaged     []DamagedPage     `json:"damaged" nullable:"false" doc:"these pages"`
	Tablespaces []TablespaceEntry `json:"tablespaces"`
	Task        string            `json:"task" doc:"whose log tells how it was taken"`
	Lost        bool              `json:"lost,omitempty" doc:"an audit found that it cannot be read; no plan begins with it"`
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
	Dropped     bool      `json:"dropped" doc:"it has been deleted since"`
}

// DamagedPage is a page of a relation whose content could not be right, on the server's disk.
type DamagedPage struct {
	Path  string `json:"path"`  // of the file, relative to the data directory
	Block uint32 `json:"block"` // of the relation
	Fault string `json:"fault"`
	Table string `json:"table,omitempty"` // database and name, where they are known
}

// TablespaceEntry is a tablespace and where it was on the original.
type TablespaceEntry struct {
	OID      uint32 `json:"oid"`
	Location string `json:"location"`
}

// Content is what a base backup holds, in bytes before compression, and what it takes
// in the store.
type Content struct {
	Databases   []DatabaseContent   `json:"databases" doc:"largest first"`
	Tablespaces []TablespaceContent `json:"tablespaces"`
	Relations   []RelationContent   `json:"relations" doc:"the largest tables, with their indexes and TOAST, but for system catalogs"`
	MoreTables  int                 `json:"moreTables" doc:"tables that are not listed"`
	Catalogs    int64               `json:"catalogs" doc:"bytes of system catalogs, which are not listed"`
	Other       int64               `json:"other" doc:"bytes of files that are no relations"`
	Packs       int                 `json:"packs"`
	Alone       *int64              `json:"alone,omitempty" doc:"bytes that only this backup needs; left out while another cannot be read"`
	FirstWAL    string              `json:"firstWal" doc:"name of the first WAL segment that it needs"`
	LastWAL     string              `json:"lastWal" doc:"name of the last WAL segment without which it cannot be restored"`
}

// DatabaseContent is what a database takes.
type DatabaseContent struct {
	OID   uint32 `json:"oid" doc:"0: the catalogs that all databases share"`
	Name  string `json:"name" doc:"empty where nobody knows it"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// TablespaceContent is what a tablespace takes.
type TablespaceContent struct {
	OID      uint32 `json:"oid"`
	Location string `json:"location" doc:"empty: within the data directory"`
	Bytes    int64  `json:"bytes"`
}

// RelationContent is what a table takes.
type RelationContent struct {
	Database string `json:"database"`
	Schema   string `json:"schema"`
	Table    string `json:"table"`
	Main     int64  `json:"main"`
	Indexes  int64  `json:"indexes"`
	TOAST    int64  `json:"toast"`
}

// TakeBackupRequest asks for a base backup.
type TakeBackupRequest struct {
	Checkpoint string `json:"checkpoint,omitempty" enum:"fast,spread" doc:"left out: fast for the first of a cluster, else spread"`
	Kind       string `json:"kind,omitempty" enum:"full,incremental,auto" default:"auto" doc:"incremental reads what has changed"`
}

// PinRequest keeps a base backup whatever the rule says.
type PinRequest struct {
	Reason string     `json:"reason" minLength:"1" maxLength:"200"`
	Until  *time.Time `json:"until,omitempty" doc:"when it expires; left out, it holds until it is taken off"`
}
