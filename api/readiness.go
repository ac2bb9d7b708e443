package api

import (
	"time"

	"velvetrewind/core/pg"
)

// Fixed is what was run, and what a cluster lacks now.
type Fixed struct {
	Applied ReadinessApplied `json:"applied"`
	Report  ReadinessReport  `json:"report"`
}

// Script is text to be run or read elsewhere.
type Script struct {
	Text string `json:"text"`
}

// ReadinessCheck is one prerequisite.
type ReadinessCheck struct {
	ID     string   `json:"id"`
	Title  string   `json:"title"`
	State  string   `json:"state" enum:"needed,advised,choice,unknown,ok"`
	Found  string   `json:"found" doc:"what there is"`
	Why    string   `json:"why" doc:"why it matters"`
	SQL    []string `json:"sql,omitempty" doc:"what fixes it, to be run by a superuser of the cluster"`
	Edit   []string `json:"edit,omitempty" doc:"what is to be changed in a file, or outside of the server"`
	After  string   `json:"after,omitempty" enum:"reload,restart" doc:"what the server needs then"`
	Effect string   `json:"effect,omitempty" doc:"what the remedy does besides"`
}

// ReadinessReport is every check of a cluster.
type ReadinessReport struct {
	Facts  ReadinessFacts   `json:"facts"`
	Checks []ReadinessCheck `json:"checks"`
}

// ReadinessFacts is what was found out about a cluster, its server's host and the service.
type ReadinessFacts struct {
	ServerVersion int            `json:"serverVersion" doc:"server_version_num"`
	Catalog       uint32         `json:"catalogVersion" doc:"CATALOG_VERSION_NO of the server; 0 where it was not asked"`
	Sizes         ReadinessSizes `json:"sizes"`
	VersionText   string         `json:"versionText"`
	SystemID      uint64         `json:"systemId,string"`
	Timeline      pg.Timeline    `json:"timeline"`
	SegmentSize   pg.SegmentSize `json:"segmentSize" doc:"bytes"`
	Checksums     bool           `json:"dataChecksums"`

	Role            string            `json:"role"`
	RoleSuperuser   bool              `json:"roleSuperuser"`
	Replication     bool              `json:"replicationRight"`
	ReplicationRole string            `json:"replicationRole"`
	ReplicationFail string            `json:"replicationFailure,omitempty" doc:"why a replication session was refused"`
	ReadsFiles      bool              `json:"readsFiles" doc:"may read configuration files and single pages on the server"`
	ReadsTables     bool              `json:"readsTables" doc:"may read every table, to count rows beside a copy's"`
	ReadsChanges    bool              `json:"readsChanges" doc:"may take base backups through SQL, of what has changed only"`
	Settings        map[string]string `json:"settings" doc:"of the server; those that the role may not see are missing"`
	SendersUsed     int               `json:"sendersUsed"`
	SlotsUsed       int               `json:"slotsUsed"`
	SlotExists      bool              `json:"slotExists" doc:"our own slot is there already"`
	ArchiveFailing  bool              `json:"archiveFailing" doc:"the server's own archiving failed last"`
	Tablespaces     []string          `json:"tablespaces" doc:"where they are"`
	Bytes           int64             `json:"bytes" doc:"what the databases hold; 0 where it may not be seen"`
	ClockAhead      time.Duration     `json:"clockAheadNanoseconds" doc:"by how much the server's clock is before the service's"`

	Unverified    bool   `json:"unverified" doc:"the connection goes over a network, and the server's certificate is not verified"`
	ServerFree    int64  `json:"serverFree" doc:"bytes free for WAL on the server; -1: not known, because it is another host"`
	StoreFree     int64  `json:"storeFree" doc:"bytes free in the store; -1: it has no limit, or none that is known"`
	StoreSealed   bool   `json:"storeEncrypted"`
	ServiceZone   string `json:"serviceZone" doc:"its abbreviation and offset, now"`
	CopiesUser    string `json:"copiesUser" doc:"OS user of copies"`
	CopiesFailure string `json:"copiesFailure,omitempty" doc:"why copies cannot be run on the service's host"`
}

// ReadinessSizes are what a server was built with.
type ReadinessSizes struct {
	Block         int `json:"block" doc:"bytes of a page"`
	WALBlock      int `json:"walBlock" doc:"bytes of a WAL page"`
	BlocksPerFile int `json:"blocksPerFile" doc:"pages of a relation's file before the next one begins"`
}

// ReadinessApplied is what was run on a cluster.
type ReadinessApplied struct {
	SQL      []string `json:"sql" doc:"statements that were run, in order"`
	Reloaded bool     `json:"reloaded" doc:"the server was told to read its configuration again"`
	Restart  bool     `json:"restart" doc:"something takes effect only when the server is restarted, which is left to you"`
}

// ApplyReadinessRequest has the SQL of some checks run.
type ApplyReadinessRequest struct {
	Cluster string   `json:"cluster,omitempty" doc:"a registered cluster, by name or id"`
	Login   *Login   `json:"login,omitempty" doc:"how to reach one that is not registered"`
	Checks  []string `json:"checks" doc:"ids of the checks whose SQL is to be run"`
	As      string   `json:"as,omitempty" doc:"role that may, a superuser; left out, the cluster's own"`
	// Of a password that is not kept.
	AsPassword string `json:"asPassword,omitempty" doc:"its password, which is not kept"`
	Confirm    string `json:"confirm,omitempty" doc:"the cluster's name, or apply for one that is not registered"`
}
