package api

import (
	"time"

	"velvetrewind/core/pg"
)

// Keep is what a cluster keeps.
type Keep struct {
	Cluster string     `json:"cluster" doc:"name"`
	Rule    KeepRule   `json:"rule"`
	From    string     `json:"from" doc:"whose rule it is: its own, policy NAME, the default"`
	Promise Promise    `json:"promise"`
	Pins    []Pin      `json:"pins"`
	NextRun *time.Time `json:"nextRun,omitempty" doc:"when the calendar applies the rule next"`
	Deleted *Deleted   `json:"deleted,omitempty" doc:"what was deleted and can be taken back still"`
}

// Deleted is what was deleted of a cluster and is not permanently deleted yet.
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

// KeepRule says what of a cluster is kept. A part that is zero asks for nothing.
type KeepRule struct {
	SpanHours int    `json:"spanHours" doc:"any moment of the last so many hours can be reached" minimum:"0" maximum:"876000"`
	Count     int    `json:"count" doc:"newest base backups kept, and any moment since" minimum:"0" maximum:"100000"`
	Daily     int    `json:"daily" doc:"the first base backup of each of the last so many days that have one" minimum:"0" maximum:"100000"`
	Weekly    int    `json:"weekly" doc:"likewise of weeks, which begin on Monday" minimum:"0" maximum:"100000"`
	Monthly   int    `json:"monthly" doc:"likewise of months" minimum:"0" maximum:"100000"`
	Yearly    int    `json:"yearly" doc:"likewise of years" minimum:"0" maximum:"100000"`
	Zone      string `json:"zone,omitempty" doc:"time zone of those days, weeks, months and years, as Europe/Lisbon; UTC if left out"`
}

// KeepReason is why something is kept or deleted.
type KeepReason struct {
	Kind string `json:"kind" enum:"promise,span,count,day,week,month,year,pin,copy,last,own,arriving,over,superseded,broken,stranded,damaged"`
	Text string `json:"text"`
}

// KeepBase is a base backup with its verdict.
type KeepBase struct {
	ID       string       `json:"id"`
	Timeline pg.Timeline  `json:"timeline"`
	Start    pg.LSN       `json:"start"`
	Stop     pg.LSN       `json:"stop"`
	StopTime time.Time    `json:"stopTime"`
	Needed   bool         `json:"needed"`
	Reasons  []KeepReason `json:"reasons"`
}

// KeepWAL is a stretch of captured WAL with its verdict.
type KeepWAL struct {
	Timeline pg.Timeline  `json:"timeline"`
	First    uint64       `json:"first" doc:"number of its first segment"`
	Last     uint64       `json:"last" doc:"number of its last segment"`
	From     pg.LSN       `json:"from"`
	To       pg.LSN       `json:"to"`
	Needed   bool         `json:"needed"`
	Reasons  []KeepReason `json:"reasons"`
}

// KeepPreview is what applying a rule would do.
type KeepPreview struct {
	AsOf     time.Time  `json:"asOf"`
	Promised time.Time  `json:"promised" doc:"any moment since then is promised"`
	Held     bool       `json:"held" doc:"every promised moment can be reached"`
	HeldFrom *time.Time `json:"heldFrom,omitempty" doc:"since when without a gap every moment can be reached"`
	Bases    []KeepBase `json:"bases" doc:"newest first"`
	WAL      []KeepWAL  `json:"wal" doc:"by timeline and place"`
	Before   []Span     `json:"before" doc:"reach now"`
	After    []Span     `json:"after" doc:"reach when what is releasable has been deleted"`

	Rule         KeepRule `json:"rule"`
	Words        string   `json:"words" doc:"the rule in words"`
	Token        string   `json:"token" doc:"names exactly what would be deleted; give it to apply"`
	FreesBackups *int64   `json:"freesBackups,omitempty" doc:"bytes of packs that would be deleted, where it was measured and can be known"`
	FreesWAL     int64    `json:"freesWal" doc:"bytes of WAL that would be deleted"`
}

// KeepApplied is what was deleted.
type KeepApplied struct {
	Bases    []string `json:"bases"`
	Segments int64    `json:"segments"`
	WAL      int64    `json:"wal" doc:"bytes of WAL"`
}

// PreviewKeepRequest asks what applying a rule would delete.
type PreviewKeepRequest struct {
	Rule    *KeepRule  `json:"rule,omitempty" doc:"to be tried instead of the cluster's"`
	AsOf    *time.Time `json:"asOf,omitempty" doc:"any day; now if left out. Of days to come it is told with what there is today"`
	Measure bool       `json:"measure,omitempty" doc:"read the manifests for the bytes freed; takes a while"`
}

// ApplyKeepRequest deletes what a preview showed.
type ApplyKeepRequest struct {
	Token   string `json:"token" doc:"of the preview"`
	Confirm string `json:"confirm,omitempty" doc:"the cluster's name"`
}
