package api

import (
	"time"

	"velvetrewind/core/pg"
)

// Transaction is a transaction of the change journal.
type Transaction struct {
	XID              pg.FullXID    `json:"xid" doc:"with its epoch"`
	Committed        bool          `json:"committed" doc:"false if it was rolled back"`
	Time             time.Time     `json:"time" doc:"of its commit or rollback"`
	LSN              pg.LSN        `json:"lsn" doc:"start of its commit or abort record"`
	First            pg.LSN        `json:"first" doc:"start of its first record"`
	Database         string        `json:"database,omitempty" doc:"name, where it is known"`
	Tables           []TableChange `json:"tables" doc:"what it did to tables; the server's own catalogs only where they were asked for"`
	Author           *Author       `json:"author,omitempty" doc:"who was seen with its id; missing where nobody was"`
	Alterations      []string      `json:"alterations,omitempty" doc:"what was changed of the tables that it altered, all of them together"`
	Subtransactions  int           `json:"subtransactions" doc:"that were committed with it"`
	GID              string        `json:"gid,omitempty" doc:"of a two-phase transaction"`
	Partial          bool          `json:"partial" doc:"it may have begun before the captured WAL: it did at least this"`
	NewDatabases     int           `json:"newDatabases" doc:"created"`
	DroppedDatabases int           `json:"droppedDatabases" doc:"dropped"`
	DroppedObjects   []string      `json:"droppedObjects,omitempty" doc:"views, indexes, sequences, functions and schemas, as \"view crew.roster\""`
	Bytes            int64         `json:"bytes" doc:"of WAL"`
	Incident         []string      `json:"incident,omitempty" doc:"why the cluster's rule, or one that is tried, marks it"`
	Settled          bool          `json:"settled" doc:"somebody has said that the incident was intended"`
}

// Author is who held a transaction's id.
type Author struct {
	Role        string    `json:"role"`
	Application string    `json:"application,omitempty"`
	Address     string    `json:"address,omitempty" doc:"of the client; missing on the server's own machine"`
	Database    string    `json:"database,omitempty"`
	Statement   string    `json:"statement,omitempty" doc:"the last one that was seen, cut; only where the cluster keeps them"`
	First       time.Time `json:"first" doc:"when that was seen first, by the server's clock"`
	Last        time.Time `json:"last"`
}

// AuthorRule says how it is watched who writes.
type AuthorRule struct {
	Days      int `json:"days" minimum:"0" maximum:"3660" doc:"for how long it is kept; 0: nobody is watched"`
	Statement int `json:"statement" minimum:"0" maximum:"10000" doc:"characters of statements that are kept; 0: none"`
}

// TableChange is what a transaction did to one table.
type TableChange struct {
	Table      string   `json:"table" doc:"with its schema unless that is public; the file where nobody knows the name"`
	Database   string   `json:"database,omitempty"`
	Inserted   int64    `json:"inserted"`
	Updated    int64    `json:"updated"`
	Deleted    int64    `json:"deleted"`
	Operations []string `json:"operations,omitempty" doc:"truncate, drop, create, rewrite, alter"`
}

// Changes are transactions of the change journal.
type Changes struct {
	Transactions []Transaction `json:"transactions"`
	More         bool          `json:"more" doc:"there are others: ask again with before or after set to the last one's lsn"`
}

// Rate is what was committed within a span of time.
type Rate struct {
	From         time.Time `json:"from"`
	Transactions int64     `json:"transactions"`
	Inserted     int64     `json:"inserted"`
	Updated      int64     `json:"updated"`
	Deleted      int64     `json:"deleted"`
	Losses       int64     `json:"losses" doc:"tables dropped or truncated"`
}

// Deck is a cluster's history over a span of time, for drawing.
type Deck struct {
	From          time.Time  `json:"from" doc:"of the rates"`
	To            time.Time  `json:"to"`
	Rates         []Rate     `json:"rates" doc:"equal parts from from to to"`
	Reach         []Span     `json:"reach"`
	Holes         []Hole     `json:"holes"`
	Bases         []Notch    `json:"bases"`
	RestorePoints []Notch    `json:"restorePoints"`
	Incidents     []Incident `json:"incidents" doc:"newest first"`
}

// Notch is a named place on the deck.
type Notch struct {
	Name string    `json:"name"`
	Time time.Time `json:"time"`
	LSN  pg.LSN    `json:"lsn"`
}

// Incident is a transaction that the cluster's rule marks.
type Incident struct {
	Cluster string     `json:"cluster" doc:"name"`
	XID     pg.FullXID `json:"xid"`
	Time    time.Time  `json:"time" doc:"of its commit"`
	LSN     pg.LSN     `json:"lsn" doc:"start of its commit record"`
	Reasons []string   `json:"reasons"`
	Author  string     `json:"author,omitempty" doc:"who was seen with its id, in a few words"`
	Settled *time.Time `json:"settled,omitempty" doc:"when somebody said that it was intended"`
}

// Rule says which transactions of a cluster are incidents.
type Rule struct {
	Drops  bool    `json:"drops" doc:"tables and columns dropped, tables truncated, and databases dropped"`
	Alters bool    `json:"alters,omitempty" doc:"tables altered in any way"`
	Rows   int64   `json:"rows" doc:"at least so many rows deleted from one table; 0 for no limit"`
	Share  float64 `json:"share" doc:"at least this share of a table of 1,000 rows or more deleted or updated; 0 for no limit"`

	Tables []TableRule `json:"tables,omitempty" doc:"limits of their own; of several that cover a table the last holds"`
	Normal []Normal    `json:"normal,omitempty" doc:"what is no incident all the same"`
}

// TableRule are the limits for one table.
type TableRule struct {
	Table string  `json:"table" doc:"[[database.]schema.]table"`
	Rows  int64   `json:"rows" doc:"at least so many rows deleted; 0 for no limit"`
	Share float64 `json:"share" doc:"at least this share of its rows deleted or updated, 0 to 1; 0 for no limit; however small it is"`
}

// Normal is what is declared normal for a table.
type Normal struct {
	Table string `json:"table" doc:"[[database.]schema.]table"`
	Kind  string `json:"kind" doc:"delete, update, truncate, drop or alter"`
	Role  string `json:"role,omitempty" doc:"of this role alone; missing for anybody"`
}

// RuleTrial is a rule to be tried on what has happened.
type RuleTrial struct {
	Rule  Rule      `json:"rule"`
	Since time.Time `json:"since" doc:"committed not before"`
	Limit int       `json:"limit,omitempty" minimum:"1" maximum:"5000" default:"50"`
}

// Settlement says how an incident is settled.
type Settlement struct {
	Like bool `json:"like,omitempty" doc:"the same is normal for these tables from now on: no incident any more"`
}
