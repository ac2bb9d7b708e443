package journal

import (
	"fmt"
	"slices"
)

// Rule says which transactions of a cluster are incidents.
type Rule struct {
	Drops  bool        `json:"drops"`            // tables and columns dropped, tables truncated, and databases dropped
	Alters bool        `json:"alters,omitempty"` // tables altered in any way
	Rows   int64       `json:"rows"`             // at least so many rows deleted from one table; 0 for no limit
	Share  float64     `json:"share"`            // at least this share of a table's rows deleted or updated, 0 to 1; 0 for no limit
	Tables []TableRule `json:"tables,omitempty"` // limits of their own; of several that cover a table the last holds
	Normal []Normal    `json:"normal,omitempty"` // what is no incident all the same
}

// TableRule are the limits for one table, in place of the cluster's.
type TableRule struct {
	Table Table   `json:"table"`
	Rows  int64   `json:"rows"`
	Share float64 `json:"share"`
}

// Normal is what is declared normal for a table.
type Normal struct {
	Table Table     `json:"table"`
	Kind  Operation `json:"kind"`
	Role  string    `json:"role,omitempty"` // of whom; "" for anybody
}

// DefaultRule is the rule of a cluster whose administrator has not chosen another.
var DefaultRule = Rule{Drops: true, Rows: 10_000, Share: 0.5}

// leastShareRows keeps small tables from raising alarm by their share, unless they have limits of their own.
const leastShareRows = 1000

// Incident is why a transaction is one.
type Incident struct {
	Kind   Operation
	Name   Name   // of the table; zero where a database was dropped
	Rows   int64  // deleted or updated
	Reason string // in words
}

// Judge gives the reasons for which a committed transaction is an incident; none if
// it is none. rows tells how many rows a table had, as far as is known.
func (r Rule) Judge(t *Transaction, tables []TableChange, rows func(TableChange) int64) []Incident {
	var why []Incident
	if !t.Committed {
		return nil
	}
	altered := 0
	for _, c := range tables {
		if !c.System() && c.Counts[Alter] > 0 {
			altered++
		}
	}
	for _, c := range tables {
		if !c.Known || c.System() {
			continue
		}
		for _, i := range r.judgeTable(c, rows(c), t.DroppedColumns, altered > 1) {
			if t.Partial && i.Kind <= Delete {
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

// For is the rule for what a role did, "" where nobody was seen: what is normal for that one alone is so for it.
func (r Rule) For(role string) Rule {
	if role == "" || !slices.ContainsFunc(r.Normal, func(n Normal) bool { return n.Role == role }) {
		return r
	}
	r.Normal = slices.Clone(r.Normal)
	for i := range r.Normal {
		if r.Normal[i].Role == role {
			r.Normal[i].Role = ""
		}
	}
	return r
}

// May tells whether a segment can hold an incident, from its head alone. late names files that had no name then.
func (r Rule) May(h *Head, late Lookup, rows func(TableChange) int64) bool {
	if r.Drops && h.Most[Drop] > 0 || (r.Drops || r.Alters) && h.Most[Alter] > 0 {
		return true
	}
	for i := range h.Tables {
		s := &h.Tables[i]
		c := TableChange{Name: s.Name, Known: s.Known, File: s.File, Counts: s.Most}
		if !c.Known {
			c.Name, c.Known = late(c.File)
		}
		if c.Known && !c.System() && len(r.judgeTable(c, rows(c), 0, false)) > 0 {
			return true
		}
	}
	return false
}

// judgeTable judges one table, which had so many rows; columns are those that the transaction dropped, of all tables together, of
// which it may have altered several.
func (r Rule) judgeTable(c TableChange, had, columns int64, several bool) (why []Incident) {
	limits, least := TableRule{Rows: r.Rows, Share: r.Share}, int64(leastShareRows)
	for _, own := range r.Tables {
		if own.Table.Covers(c.Name) {
			limits, least = own, 1
		}
	}
	add := func(k Operation, words string) {
		rows := int64(0)
		if k <= Delete {
			rows = c.Counts[k]
		}
		why = append(why, Incident{k, c.Name, rows, words})
	}
	much := func(k Operation) bool {
		return limits.Share > 0 && had >= least && float64(c.Counts[k]) >= limits.Share*float64(had)
	}
	changed := func(k Operation) string {
		if c.Counts[k] == 1 {
			return "1 row of " + c.Label() + " was " + past[k]
		}
		return grouped(c.Counts[k]) + " rows of " + c.Label() + " were " + past[k]
	}
	ofSome := func(k Operation) string { return ", of some " + grouped(max(had, c.Counts[k])) }
	switch {
	case r.Drops && c.Counts[Drop] > 0 && !r.normal(c.Name, Drop):
		add(Drop, c.Label()+" was dropped")
	case r.Drops && c.Counts[Truncate] > 0 && !r.normal(c.Name, Truncate):
		add(Truncate, c.Label()+" was truncated")
	case r.normal(c.Name, Delete):
	case limits.Rows > 0 && c.Counts[Delete] >= limits.Rows:
		add(Delete, changed(Delete))
	case much(Delete):
		add(Delete, changed(Delete)+ofSome(Delete))
	}
	if much(Update) && !r.normal(c.Name, Update) {
		add(Update, changed(Update)+ofSome(Update))
	}
	if c.Counts[Alter] > 0 && !r.normal(c.Name, Alter) {
		switch {
		case r.Drops && columns > 0 && several:
			add(Alter, c.Label()+" was altered, as others were, and a column of one of them dropped")
		case r.Drops && columns == 1:
			add(Alter, c.Label()+" was altered, and a column dropped")
		case r.Drops && columns > 1:
			add(Alter, c.Label()+" was altered, and "+grouped(columns)+" columns dropped")
		case r.Alters:
			add(Alter, c.Label()+" was altered")
		}
	}
	return why
}

// past says what was done to rows.
var past = map[Operation]string{Update: "updated", Delete: "deleted"}

func (r Rule) normal(n Name, k Operation) bool {
	for _, e := range r.Normal {
		if e.Kind == k && e.Role == "" && e.Table.Covers(n) {
			return true
		}
	}
	return false
}

// Declare adds what is normal from now on, once.
func (r *Rule) Declare(n Normal) {
	if !slices.Contains(r.Normal, n) {
		r.Normal = append(r.Normal, n)
	}
}

// Markable tells whether a rule can mark what does this.
func Markable(k Operation) bool {
	return k == Delete || k == Update || k == Truncate || k == Drop || k == Alter
}

// Grave tells whether a transaction did anything to users' tables that a rule can mark.
func Grave(list []TableChange) bool {
	return slices.ContainsFunc(list, func(c TableChange) bool {
		return !c.System() && (c.Counts[Delete] > 0 || c.Counts[Update] > 0 || c.Counts[Truncate] > 0 || c.Counts[Drop] > 0 ||
			c.Counts[Alter] > 0)
	})
}

// Like is what would have to be normal for a transaction to be no incident: all that the rule marks it for, or if it
// does not, all that any rule could; done by a role, or where nobody was seen, by anybody.
func (r Rule) Like(t *Transaction, tables []TableChange, rows func(TableChange) int64, role string) (list []Normal) {
	for _, i := range r.For(role).Judge(t, tables, rows) {
		if i.Name != (Name{}) {
			list = append(list, Normal{Table{i.Name.Database, i.Name.Schema, i.Name.Table}, i.Kind, role})
		}
	}
	if len(list) > 0 {
		return list
	}
	for _, c := range tables {
		for k, n := range c.Counts {
			if n > 0 && Markable(Operation(k)) && c.Known && !c.System() {
				list = append(list, Normal{Table{c.Database, c.Schema, c.Table}, Operation(k), role})
			}
		}
	}
	return list
}

// Label is the table's name as ParseTable reads it, with its schema unless that is public; before that of another object
// stands what it is.
func (n Name) Label() string {
	if word := n.Part.Word(); word != "" {
		n.Part = Main
		return word + " " + n.Label()
	}
	if n.Schema == "public" {
		n.Schema = ""
	}
	return Table{Schema: n.Schema, Name: n.Table}.String()
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
