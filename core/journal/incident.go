package journal

import "fmt"

// Rule says which transactions of a cluster are incidents.
type Rule struct {
	Drops bool    `json:"drops"` // tables dropped or truncated, and databases dropped
	Rows  int64   `json:"rows"`  // at least so many rows deleted from one table; 0 for no limit
	Share float64 `json:"share"` // at least this share of a table's rows deleted, 0 to 1; 0 for no limit
}

// DefaultRule is the rule of a cluster whose administrator has not chosen another.
var DefaultRule = Rule{Drops: true, Rows: 10_000, Share: 0.5}

// leastShareRows keeps tables of a few rows from raising alarm by their share.
const leastShareRows = 100

// Incident is why a transaction is one.
type Incident struct {
	Kind   Operation
	Table  string // "" where a database was dropped
	Rows   int64  // deleted
	Reason string // in words
}

// Judge gives the reasons for which a committed transaction is an incident; none if
// it is none. rows tells how many rows a table had, as far as is known.
func (r Rule) Judge(t *Transaction, tables []TableChange, rows func(TableChange) int64) []Incident {
	var why []Incident
	if !t.Committed {
		return nil
	}
	for _, c := range tables {
		if !c.Known || c.System() {
			continue
		}
		for _, i := range r.judgeTable(c, rows(c)) {
			if t.Partial && i.Kind == Delete {
				i.Reason = "at least " + i.Reason
			}
			why = append(why, i)
		}
	}
	if r.Drops && len(t.DroppedDatabases) > 0 {
		why = append(why, Incident{Kind: Drop, Reason: "a database was dropped"})
	}
	return why
}

func (r Rule) judgeTable(c TableChange, had int64) []Incident {
	label, deleted := c.Label(), c.Counts[Delete]
	switch {
	case r.Drops && c.Counts[Drop] > 0:
		return []Incident{{Drop, label, deleted, label + " was dropped"}}
	case r.Drops && c.Counts[Truncate] > 0:
		return []Incident{{Truncate, label, deleted, label + " was truncated"}}
	case r.Rows > 0 && deleted >= r.Rows:
		return []Incident{{Delete, label, deleted, fmt.Sprintf("%s rows of %s were deleted", grouped(deleted), label)}}
	case r.Share > 0 && deleted >= leastShareRows && had > 0 && float64(deleted) >= r.Share*float64(had):
		return []Incident{{Delete, label, deleted, fmt.Sprintf("%s rows of %s were deleted, of some %s", grouped(deleted), label,
			grouped(max(had, deleted)))}}
	}
	return nil
}

// Label is the table's name, with its schema unless that is public.
func (n Name) Label() string {
	if n.Schema == "" || n.Schema == "public" {
		return n.Table
	}
	return n.Schema + "." + n.Table
}

// Label is the table's name, or its file's where nobody knows the name.
func (c TableChange) Label() string {
	if c.Known {
		return c.Name.Label()
	}
	return fmt.Sprintf("file %d/%d/%d", c.File.Space, c.File.Database, c.File.Filenode)
}

// grouped writes a number with its digits in groups of three.
func grouped(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
