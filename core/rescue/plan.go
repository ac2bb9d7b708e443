package rescue

// Plan is what a rescue would bring back, or has.
type Plan struct {
	XID      uint64      `json:"xid"`            // of the transaction
	Also     []uint64    `json:"also,omitempty"` // of others that are undone with it
	Database string      `json:"database"`
	Tables   []TablePlan `json:"tables"` // in the order in which they are written
	// Made are tables that were dropped and are made anew.
	Made []string `json:"made,omitempty"`
	// Unable is what rows cannot undo, with its remedy.
	Unable []string `json:"unable,omitempty"`
	// Runs is code that belongs to the cluster's people and runs as the rows are written.
	Runs []string `json:"runs,omitempty"`
}

// TablePlan is what would come back into one table.
type TablePlan struct {
	Table       string `json:"table"` // schema.table
	Key         string `json:"key,omitempty"`
	Did         string `json:"did"`         // what the transaction did to it
	Rows        int64  `json:"rows"`        // that it took
	Missing     int64  `json:"missing"`     // to be inserted
	Overwritten int64  `json:"overwritten"` // to be updated
	Right       int64  `json:"right"`       // as they were already
	Changed     int64  `json:"changed"`     // changed, or made anew, by somebody since
	Gone        int64  `json:"gone"`        // updated by the transaction and deleted by somebody since
	Orphans     int64  `json:"orphans"`     // whose parent is gone
	Taken       int64  `json:"taken"`       // whose unique key another row has
	Unsettled   int64  `json:"unsettled"`   // of the last four, those about which nothing is said
	// Inserts and Updates are what is written.
	Inserts   int64      `json:"inserts"`
	Updates   int64      `json:"updates"`
	Conflicts []Conflict `json:"conflicts"` // some of them
	Notes     []string   `json:"notes,omitempty"`
}

// MostConflicts is how many rows that stand in the way a plan names of each table; all are counted.
const MostConflicts = 100

// Conflict is a row that stands in the way.
type Conflict struct {
	How     string      `json:"how"`
	Key     string      `json:"key"` // or the row where the table has no key
	Do      Choice      `json:"do"`
	Columns []Differing `json:"columns,omitempty"`
}

// Count takes in how many rows stand in a way, and what is done about them.
func (p *TablePlan) Count(state, do string, n int64, choice Choice) {
	p.Rows += n
	for of, to := range map[string]*int64{Missing: &p.Missing, Overwritten: &p.Overwritten, Right: &p.Right, Changed: &p.Changed,
		Gone: &p.Gone, Orphan: &p.Orphans, Taken: &p.Taken} {
		if of == state {
			*to += n
		}
	}
	switch do {
	case "i":
		p.Inserts += n
		return
	case "u":
		p.Updates += n
		return
	case "k":
		return
	}
	switch state {
	case Changed, Gone:
		if choice == Stop {
			p.Unsettled += n
		}
	case Orphan, Taken: // taking the old one is no way
		if choice != KeepLive {
			p.Unsettled += n
		}
	}
}

// Ways says in words how a row stands in the way.
var Ways = map[string]string{Changed: "changed since", Gone: "deleted since", Orphan: "its parent is gone",
	Taken: "its unique key is taken"}

// Differing is a column of which the old value is not the live one.
type Differing struct {
	Name string `json:"name"`
	Old  string `json:"old"`
	Live string `json:"live"`
}
