package api

import "time"

// RescueRequest asks for the rows that the transaction just after a copy took to be brought back.
type RescueRequest struct {
	Transaction uint64   `json:"transaction,omitempty" doc:"left out, the first one that the copy leaves out"`
	Also        []uint64 `json:"also,omitempty" doc:"other transactions, committed after it, whose rows are brought back with it"`
	Tables      []string `json:"tables,omitempty" doc:"only these and what stands below them: [[database.]schema.]table; none for all"`
	Settle      []string `json:"settle,omitempty" doc:"of rows that live has changed since: [TABLE[:KEY]=]keep-live, take-old or stop"`
	NoTriggers  bool     `json:"noTriggers,omitempty" doc:"no trigger and no rule of the live tables runs; needs a superuser"`
	TrustCode   bool     `json:"trustCode,omitempty" doc:"code of the tables' owners may run with the rights of a superuser"`
	As          string   `json:"as,omitempty" doc:"role that writes; left out, the registered one"`
	AsPassword  string   `json:"asPassword,omitempty" writeOnly:"true"`
	Mode        string   `json:"mode,omitempty" enum:"plan,try,apply" default:"plan" doc:"try does everything and takes it back"`
	AtOnce      int64    `json:"atOnce,omitempty" minimum:"0" doc:"rows that one transaction brings back at most, to apply; 0 for all"`
	Pause       float64  `json:"pause,omitempty" minimum:"0" doc:"seconds after each such transaction"`
	Open        bool     `json:"open,omitempty" doc:"the copy, if the transaction holds a table there: it can be moved no more then"`
	Confirm     string   `json:"confirm,omitempty" doc:"name of the cluster, to apply"`
}

// Rescue is what is brought back of what a transaction took, or several.
type Rescue struct {
	ID          string        `json:"id"`
	Cluster     string        `json:"cluster"`
	Copy        string        `json:"copy"`
	Moment      string        `json:"moment"`
	Transaction uint64        `json:"transaction"`
	Also        []uint64      `json:"also,omitempty" doc:"other transactions whose rows were brought back with it"`
	State       string        `json:"state" enum:"looking,planned,tried,writing,applied,partly,failed"`
	Wrote       uint64        `json:"wrote,omitempty" doc:"id of the transaction that brought the rows back"`
	Batches     []uint64      `json:"batches,omitempty" doc:"ids of the transactions, if several have brought the rows back"`
	Left        int           `json:"left,omitempty" doc:"how many batches were still to come"`
	Database    string        `json:"database,omitempty"`
	Tables      []RescueTable `json:"tables" doc:"in the order in which they are written"`
	Made        []string      `json:"made" doc:"tables that were dropped and are made anew with all that hung on them, and other objects"`
	Unable      []string      `json:"unable" doc:"what rows cannot undo"`
	Runs        []string      `json:"runs" doc:"code of the cluster's people that runs as the rows are written"`
	Checks      []RescueCheck `json:"checks"`
	BegunAt     time.Time     `json:"begunAt"`
	EndedAt     *time.Time    `json:"endedAt,omitempty"`
	Task        string        `json:"task"`
}

// RescueTable is what comes back into one table.
type RescueTable struct {
	Table       string           `json:"table"`
	Key         string           `json:"key,omitempty" doc:"by which its rows are known; none if it has no key"`
	Did         string           `json:"did" doc:"what the transaction did to it"`
	Rows        int64            `json:"rows" doc:"that the transaction took"`
	Missing     int64            `json:"missing"`
	Overwritten int64            `json:"overwritten"`
	Right       int64            `json:"right" doc:"as before the transaction already"`
	Changed     int64            `json:"changed" doc:"by somebody since"`
	Gone        int64            `json:"gone" doc:"updated by the transaction, and deleted by somebody since"`
	Orphans     int64            `json:"orphans" doc:"what they refer to is gone"`
	Taken       int64            `json:"taken" doc:"another row has their unique key now"`
	Unsettled   int64            `json:"unsettled" doc:"of the last four, those of which nobody has said what becomes of them"`
	Inserts     int64            `json:"inserts"`
	Updates     int64            `json:"updates"`
	Conflicts   []RescueConflict `json:"conflicts" doc:"the first 100"`
	Notes       []string         `json:"notes"`
}

// RescueConflict is a row that stands in the way.
type RescueConflict struct {
	How     string            `json:"how"`
	Key     string            `json:"key"`
	Do      string            `json:"do" enum:"stop,keep live,take old"`
	Columns []RescueDiffering `json:"columns" doc:"those that differ"`
}

// RescueDiffering is a column of which the old value is not the live one.
type RescueDiffering struct {
	Name string `json:"name"`
	Old  string `json:"old"`
	Live string `json:"live"`
}

// RescueCheck is one thing that was looked at before the rows were committed.
type RescueCheck struct {
	Name    string `json:"name"`
	Verdict string `json:"verdict" enum:"passed,failed"`
	Summary string `json:"summary"`
}

// CompareRequest asks for tables of a copy to be held against the live ones.
type CompareRequest struct {
	Database string   `json:"database" minLength:"1"`
	Tables   []string `json:"tables,omitempty" doc:"[schema.]table; none for all"`
	Schemas  []string `json:"schemas,omitempty" doc:"all tables of these, beside those that are named"`
	With     string   `json:"with,omitempty" doc:"another registered cluster, in place of the one that the copy was taken of"`
	Where    string   `json:"where,omitempty" doc:"a condition in SQL that rows have to meet on both sides"`
	Shown    int      `json:"shown,omitempty" maximum:"100000" doc:"so many rows that differ are shown of a table; all are counted"`
}

// Comparison is how a table of a copy and the live one differ.
type Comparison struct {
	Table   string       `json:"table"`
	Key     string       `json:"key,omitempty" doc:"by which rows are paired; whole rows are, where it has none"`
	Copy    int64        `json:"copy" doc:"rows"`
	Live    int64        `json:"live"`
	Missing int64        `json:"missing" doc:"in the live cluster"`
	Changed int64        `json:"changed"`
	Added   int64        `json:"added"`
	Sample  []Difference `json:"sample" doc:"the first 20"`
	Notes   []string     `json:"notes,omitempty"`
	Since   []Writer     `json:"since,omitempty" doc:"what has written it since the copy, the newest first"`
	More    bool         `json:"more,omitempty" doc:"there are others, older ones"`
}

// Writer is a transaction that has written a table, and how many rows.
type Writer struct {
	XID         uint64    `json:"xid"`
	CommittedAt time.Time `json:"committedAt"`
	Inserted    int64     `json:"inserted"`
	Updated     int64     `json:"updated"`
	Deleted     int64     `json:"deleted"`
	Truncated   bool      `json:"truncated,omitempty" doc:"or dropped"`
}

// Difference is a row that is not the same on both sides.
type Difference struct {
	How  string `json:"how" enum:"missing,changed,added"`
	Key  string `json:"key"`
	Copy string `json:"copy,omitempty" doc:"the whole row"`
	Live string `json:"live,omitempty"`
	By   uint64 `json:"by,omitempty" doc:"id of the transaction that has made it so, where that is known"`
}

// ExportRequest asks for rows of a table of a copy, to be kept or used elsewhere.
type ExportRequest struct {
	Table       string   `json:"table" minLength:"1" doc:"[schema.]table"`
	Database    string   `json:"database,omitempty" doc:"left out, the one in which the transaction changed tables"`
	EveryRow    bool     `json:"everyRow,omitempty" doc:"not only those that the transaction took"`
	Transaction uint64   `json:"transaction,omitempty" doc:"left out, the first one that the copy leaves out"`
	Also        []uint64 `json:"also,omitempty" doc:"other transactions, committed after it"`
	Where       string   `json:"where,omitempty" doc:"a condition in SQL that the rows have to meet"`
	Form        string   `json:"form,omitempty" enum:"csv,parquet,sql" default:"csv"`
	Into        string   `json:"into,omitempty" doc:"what SQL calls the table: [schema.]table; left out, as it is called on the copy"`
}
