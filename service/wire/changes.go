package wire

import (
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/reach"
)

// Transaction is a transaction of the change journal.
type Transaction struct {
	XID             pg.FullXID    `json:"xid" doc:"with its epoch"`
	Committed       bool          `json:"committed" doc:"false if it was rolled back"`
	Time            time.Time     `json:"time" doc:"of its commit or rollback"`
	LSN             pg.LSN        `json:"lsn" doc:"start of its commit or abort record"`
	First           pg.LSN        `json:"first" doc:"start of its first record"`
	Database        string        `json:"database,omitempty" doc:"name, where it is known"`
	Tables          []TableChange `json:"tables" doc:"what it did to tables; the server's own catalogs only where they were asked for"`
	Subtransactions int           `json:"subtransactions" doc:"that were committed with it"`
	GID             string        `json:"gid,omitempty" doc:"of a two-phase transaction"`
	Partial         bool          `json:"partial" doc:"it may have begun before the captured WAL: it did at least this"`
	NewDatabases    int           `json:"newDatabases" doc:"created"`
	LostDatabases   int           `json:"lostDatabases" doc:"dropped"`
	Bytes           int64         `json:"bytes" doc:"of WAL"`
	Incident        []string      `json:"incident,omitempty" doc:"why the cluster's rule marks it"`
	Settled         bool          `json:"settled" doc:"somebody has said that the incident was meant"`
}

// TableChange is what a transaction did to one table.
type TableChange struct {
	Table    string   `json:"table" doc:"with its schema unless that is public; the file where nobody knows the name"`
	Database string   `json:"database,omitempty"`
	Inserted int64    `json:"inserted"`
	Updated  int64    `json:"updated"`
	Deleted  int64    `json:"deleted"`
	Deeds    []string `json:"deeds,omitempty" doc:"truncate, drop, create, rewrite"`
}

// Changes are transactions of the change journal.
type Changes struct {
	Transactions []Transaction `json:"transactions"`
	More         bool          `json:"more" doc:"there are others: ask again with before or after set to the last one's lsn"`
}

// Moment is a moment resolved and explained.
type Moment struct {
	Moment   string          `json:"moment" doc:"in its canonical form"`
	UTC      *time.Time      `json:"utc,omitempty" doc:"of a time"`
	Note     string          `json:"note,omitempty" doc:"what was chosen where the moment left a choice"`
	Boundary moment.Boundary `json:"boundary"`
	Around   []Transaction   `json:"around" doc:"transactions on both sides, in the order of the log"`
	Kept     int             `json:"kept" doc:"so many of them, from the first, are kept"`
	Cost     Cost            `json:"cost"`
	Plan     *plan.Restore   `json:"plan,omitempty" doc:"what a restore would do"`
	Why      string          `json:"why,omitempty" doc:"why it cannot be restored"`
	Next     string          `json:"next,omitempty" doc:"what can be"`
}

// Cost is what going back would throw away of what is captured.
type Cost struct {
	Transactions int64         `json:"transactions"`
	Tables       []TableChange `json:"tables" doc:"those to which most was done first"`
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
	From      time.Time    `json:"from" doc:"of the rates"`
	To        time.Time    `json:"to"`
	Rates     []Rate       `json:"rates" doc:"equal parts from from to to"`
	Reach     []reach.Span `json:"reach"`
	Holes     []Hole       `json:"holes"`
	Bases     []Notch      `json:"bases"`
	Marks     []Notch      `json:"marks"`
	Incidents []Incident   `json:"incidents" doc:"newest first"`
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
	Settled *time.Time `json:"settled,omitempty" doc:"when somebody said that it was meant"`
}

// Rule is which transactions are incidents.
type Rule = journal.Rule

// Located is the WAL segment that holds a moment.
type Located struct {
	Moment   string  `json:"moment"`
	LSN      pg.LSN  `json:"lsn"`
	Segment  string  `json:"segment" doc:"file name"`
	Timeline uint32  `json:"timeline"`
	Where    string  `json:"where" enum:"store,spool,absent"`
	Record   *Record `json:"record,omitempty" doc:"that begins there or covers it"`
}

// Record is a WAL record.
type Record struct {
	Start   pg.LSN `json:"start"`
	End     pg.LSN `json:"end"`
	XID     pg.XID `json:"xid" doc:"0 where no transaction wrote it"`
	Manager string `json:"manager" doc:"resource manager"`
	Kind    string `json:"kind"`
	Length  uint32 `json:"length" doc:"bytes"`
	Pages   int    `json:"pages" doc:"that it refers to"`
	Images  int    `json:"images" doc:"full-page images that it carries"`
	Fields  any    `json:"fields,omitempty" doc:"what it says, by its kind"`
}
