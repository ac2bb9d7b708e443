package api

import (
	"time"

	"velvetrewind/core/pg"
)

// Store is where backups and WAL are kept, and what they take there.
type Store struct {
	Name      string         `json:"name"`
	ID        string         `json:"id"`
	Created   time.Time      `json:"created"`
	Encrypted bool           `json:"encrypted"`
	KeyNumber uint32         `json:"keyNumber,omitempty" doc:"of the data key that seals what is written now"`
	KeyMade   *time.Time     `json:"keyMade,omitempty" doc:"when that key was made"`
	Second    string         `json:"second,omitempty" doc:"name of the second store"`
	Locks     []StoreLock    `json:"locks" doc:"how the buckets lock what they hold; empty where they do not"`
	Trouble   string         `json:"trouble,omitempty" doc:"why the second store cannot be reached"`
	Measured  time.Time      `json:"measured" doc:"when the store was listed"`
	Clusters  []StoreCluster `json:"clusters"`
	Audit     *StoreAudit    `json:"audit,omitempty" doc:"the newest audit that has ended"`
}

// StoreLock is how a bucket with object lock is used.
type StoreLock struct {
	Store string `json:"store" doc:"name"`
	Text  string `json:"text"`
}

// StoreCluster is what a cluster takes in the store.
type StoreCluster struct {
	Cluster string       `json:"cluster" doc:"name; of one that the catalogue does not know, its id"`
	Known   bool         `json:"known"`
	Backups int          `json:"backups" doc:"how many base backups there are"`
	Held    int64        `json:"held" doc:"bytes that these hold, each counted as a whole"`
	Packs   int64        `json:"packs" doc:"bytes that they take, each shared part once"`
	WAL     int64        `json:"wal"`
	Journal int64        `json:"journal"`
	Objects int64        `json:"objects"`
	Second  bool         `json:"second" doc:"it is copied to the second store"`
	Growth  []StorePoint `json:"growth" doc:"how it came to be what it is, oldest first"`
}

// StorePoint is what of a cluster was kept at a time.
type StorePoint struct {
	At      time.Time `json:"at"`
	Backups int64     `json:"backups" doc:"bytes"`
	WAL     int64     `json:"wal" doc:"bytes"`
}

// StoreAudit is what an audit found, in numbers.
type StoreAudit struct {
	Task     string    `json:"task"`
	At       time.Time `json:"at"`
	Full     bool      `json:"full" doc:"every byte was read"`
	Findings int       `json:"findings"`
	Costing  int       `json:"costing" doc:"findings because of which something cannot be restored"`
	Behind   int64     `json:"behind" doc:"objects that the second store did not have yet"`
}

// Deposited tells what of the catalogue was put into the store.
type Deposited struct {
	Clusters int       `json:"clusters"`
	At       time.Time `json:"at"`
}

// KeyRecord is the record of a store's keys, each wrapped for those who may open it.
type KeyRecord struct {
	Store   string `json:"store"`
	Name    string `json:"name" doc:"of the object that it is in the store"`
	Content string `json:"content"`
}

// Rekeyed is the outcome of a rotation of the store's key.
type Rekeyed struct {
	KeyNumber uint32 `json:"keyNumber"`
	Next      string `json:"next" doc:"what to do now"`
}

// AuditResult is what an audit found.
type AuditResult struct {
	Full     bool          `json:"full"`
	Objects  int64         `json:"objects"`
	Bytes    int64         `json:"bytes"`
	Findings []Discrepancy `json:"findings"`
	Losses   []Loss        `json:"losses" doc:"what cannot be restored because of them"`
	Second   string        `json:"second,omitempty" doc:"name of the second store"`
	Behind   int64         `json:"behind,omitempty" doc:"objects that the second store does not have yet"`
}

// Loss is what a cluster has lost.
type Loss struct {
	Cluster string      `json:"cluster" doc:"name"`
	Backups []string    `json:"backups" doc:"base backups that cannot be restored"`
	Reach   []LostReach `json:"reach" doc:"moments that could be reached and cannot any more"`
}

// Discrepancy is one difference.
type Discrepancy struct {
	Kind   string `json:"kind" enum:"missing,damaged,foreign,unreferenced"`
	Key    string `json:"key"`
	Detail string `json:"detail,omitempty"`
	Costs  bool   `json:"costs" doc:"something cannot be restored because of it"`

	Elsewhere bool `json:"elsewhere" doc:"the second store has it whole"`
	Fixed     bool `json:"fixed" doc:"it was brought back from the second store"`
}

// LostReach is a stretch of a timeline.
type LostReach struct {
	Timeline pg.Timeline `json:"timeline"`
	From     pg.LSN      `json:"from"`
	To       pg.LSN      `json:"to"`
}

// RebuildResult is what was recorded again.
type RebuildResult struct {
	Clusters []string `json:"clusters" doc:"names"`
	Segments int64    `json:"segments"`
	Backups  int64    `json:"backups"`
	Known    []string `json:"known" doc:"clusters that the catalogue knows already, and which were left alone"`
	Unclear  []string `json:"unclear" doc:"ids of clusters whose record is missing or damaged"`
	// Brought is what else the catalogue had deposited in the store.
	Brought map[string]int `json:"brought,omitempty" doc:"other rows that were brought back, by table"`
}

// MirrorResult is what was copied.
type MirrorResult struct {
	Objects int64 `json:"objects"`
	Bytes   int64 `json:"bytes"`
	Damaged int64 `json:"damaged" doc:"objects that were not copied because they are damaged"`
}

// AuditRequest asks for an audit of the store.
type AuditRequest struct {
	Full bool `json:"full,omitempty" doc:"read every byte; else only look whether everything is there"`
	Fix  bool `json:"fix,omitempty" doc:"bring back from the second store what the first lacks or has damaged, and the other way round"`
}

// RekeyRequest gives the store a new key.
type RekeyRequest struct {
	File    string   `json:"file" minLength:"1" doc:"file on the service's host with the new key: an age identity or a passphrase"`
	Confirm string   `json:"confirm,omitempty" doc:"the store, as it is shown"`
	Besides []string `json:"besides,omitempty" doc:"public keys (age1…) that may open the store too"`
}
