package api

import "velvetrewind/core/pg"

// Rows are the rows that a transaction changed in a table, as far as the WAL holds them.
type Rows struct {
	XID  pg.FullXID `json:"xid" doc:"with its epoch"`
	Rows []Row      `json:"rows" doc:"in the order of the log"`
	More bool       `json:"more" doc:"there are others: ask with a higher limit, or look at a copy"`
	From pg.LSN     `json:"from,omitempty" doc:"the WAL was read from here on"`
	Look []Look     `json:"look,omitempty" doc:"where to see what the WAL does not hold"`
}

// Row is one row that was changed. What is not known is missing, and why says so.
type Row struct {
	Operation string `json:"operation" enum:"insert,update,delete,move" doc:"move: an update that takes it to another partition"`
	Table     string `json:"table" doc:"that it lies in, with its schema unless that is public"`
	Place     string `json:"place" doc:"its ctid, of an inserted row the new one"`
	LSN       pg.LSN `json:"lsn" doc:"start of the record"`
	Before    []Cell `json:"before,omitempty" doc:"what the row was"`
	OnlyKey   bool   `json:"onlyKey,omitempty" doc:"of what it was, only what identifies it is known"`
	After     []Cell `json:"after,omitempty" doc:"what it became"`
	Why       string `json:"why,omitempty" doc:"why a part of it is not known"`
}

// Cell is the value of one column.
type Cell struct {
	Column string  `json:"column"`
	Value  *string `json:"value" doc:"as the server writes it, times in UTC; null for NULL, and where it is not known"`
	Why    string  `json:"why,omitempty" doc:"the value is not known, for this reason"`
}

// Look is where rows can be seen that the WAL does not hold whole.
type Look struct {
	Moment string `json:"moment" doc:"of a copy"`
	Query  string `json:"query" doc:"to run there"`
}
