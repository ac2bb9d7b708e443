package journal

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"velvetrewind/core/pg"
)

// Table names a table as a person does: with or without schema and database.
type Table struct{ Database, Schema, Name string }

// ParseTable reads [[database.]schema.]table as SQL does: in lower case, unless quoted.
func ParseTable(s string) (Table, error) {
	var parts []string
	for rest := s; ; {
		part, after, err := identifier(rest)
		if err != nil {
			return Table{}, fmt.Errorf("%q is not the name of a table; write it as in SQL, for example booking or crew.shift: %w", s, err)
		}
		parts = append(parts, part)
		if after == "" {
			break
		}
		rest = after[1:]
	}
	switch len(parts) {
	case 1:
		return Table{Name: parts[0]}, nil
	case 2:
		return Table{Schema: parts[0], Name: parts[1]}, nil
	case 3:
		return Table{parts[0], parts[1], parts[2]}, nil
	}
	return Table{}, fmt.Errorf("%q has too many parts; write database.schema.table", s)
}

// identifier takes one part off the front; rest begins with the dot after it.
func identifier(s string) (part, rest string, err error) {
	if !strings.HasPrefix(s, `"`) {
		n := strings.IndexByte(s, '.')
		if n < 0 {
			n = len(s)
		}
		if n == 0 || strings.ContainsAny(s[:n], "\" \t\n\r") {
			return "", "", fmt.Errorf("a part is empty or holds blanks without being quoted")
		}
		return strings.ToLower(s[:n]), s[n:], nil
	}
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] != '"':
			part += s[i : i+1]
		case i+1 < len(s) && s[i+1] == '"':
			part, i = part+`"`, i+1
		case part == "" || i+1 < len(s) && s[i+1] != '.':
			return "", "", fmt.Errorf("a quoted part is empty or goes on after its quote")
		default:
			return part, s[i+1:], nil
		}
	}
	return "", "", fmt.Errorf("a quote is not closed")
}

// String prints the name so that ParseTable reads it back.
func (t Table) String() string {
	s := quoted(t.Name)
	if t.Schema != "" {
		s = quoted(t.Schema) + "." + s
	}
	if t.Database != "" {
		s = quoted(t.Database) + "." + s
	}
	return s
}

// MarshalText writes the name as String does.
func (t Table) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText reads the name as ParseTable does.
func (t *Table) UnmarshalText(text []byte) (err error) {
	*t, err = ParseTable(string(text))
	return err
}

func quoted(s string) string {
	if s == "" || s != strings.ToLower(s) || strings.ContainsAny(s, "\". \t\n\r") {
		return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
	}
	return s
}

// Matches tells whether a name is meant.
func (t Table) Matches(n Name) bool {
	return t.Name == n.Table && (t.Schema == "" || t.Schema == n.Schema) && (t.Database == "" || t.Database == n.Database)
}

// Covers tells whether a name is meant, or that of a partition or child of what is.
func (t Table) Covers(n Name) bool { return t.Matches(n) || t.Above(n) != "" }

// Above gives what a name calls of the tables of which another is a partition or child, as SQL names it in full; "" for none.
func (t Table) Above(n Name) string {
	if n.Above == "" || t.Database != "" && t.Database != n.Database {
		return ""
	}
	for line := range strings.SplitSeq(n.Above, "\n") {
		if !strings.HasSuffix(line, "."+quoted(t.Name)) {
			continue
		}
		above, err := ParseTable(line)
		if err == nil && above.Name == t.Name && (t.Schema == "" || t.Schema == above.Schema) {
			above.Database = n.Database
			return above.String()
		}
	}
	return ""
}

// Filter says which transactions are wanted; what is zero does not matter.
type Filter struct {
	Table      Table // or one of which it is a partition or child
	Database   string
	Kind       *Operation
	MinRows    int64 // changed, of Kind if that is given, in the tables that are meant
	From, To   time.Time
	After      pg.LSN // commit or abort records that begin after it
	Before     pg.LSN // and before this
	RolledBack bool   // those that were rolled back instead of those that committed
	Catalogs   bool   // changes of the server's own catalogs count too
	Empty      bool   // those that changed no table are wanted too
	// Object has transactions be wanted that dropped an object of this kind, which Table names, in place of a table.
	Object Part
	// Ever are the tables that were ever called what Table names: a segment knows them by one name only.
	Ever map[TableID]bool
	// XIDs are the only ids that are wanted, in their order; nil for any.
	XIDs []pg.FullXID
}

// meant tells whether a change of a table counts.
func (f *Filter) meant(n Name, known bool) bool {
	if f.Table != (Table{}) && !(known && f.Table.Covers(n)) {
		return false
	}
	if f.Database != "" && f.Database != n.Database {
		return false
	}
	return f.Catalogs || !n.System()
}

// size is how much of what is wanted is in counts.
func (f *Filter) size(c Counts) int64 {
	if f.Kind != nil {
		return c[*f.Kind]
	}
	return c.Rows()
}

// Bound tells at most how large a wanted transaction in a segment can be, from its
// head alone; ok is false if there can be none.
func (f *Filter) Bound(h *Head, late Lookup) (size int64, ok bool) {
	if h.To <= f.After && h.To != 0 || f.Before != 0 && h.From >= f.Before {
		return 0, false
	}
	if n, _ := slices.BinarySearch(f.XIDs, h.MinXID); f.XIDs != nil && (n == len(f.XIDs) || f.XIDs[n] > h.MaxXID) {
		return 0, false
	}
	if f.RolledBack {
		return 0, h.Aborts > 0
	}
	if h.Commits == 0 || !f.From.IsZero() && h.Latest.Before(f.From) || !f.To.IsZero() && h.Earliest.After(f.To) {
		return 0, false
	}
	if f.Object != Main {
		return 0, slices.ContainsFunc(h.Objects, f.isObject)
	}
	ok = f.Empty || f.dropsDatabases() && h.Most[Drop] > 0 || slices.ContainsFunc(h.Objects, f.takesObject)
	for i := range h.Tables {
		s := &h.Tables[i]
		n, known := s.Name, s.Known
		if !known && late != nil {
			n, known = late(s.File)
		}
		if !f.meant(n, known) && !f.Ever[TableID{n.Database, n.OID}] {
			continue
		}
		size += f.size(s.Most)
		ok = ok || f.Kind == nil || s.Sum[*f.Kind] > 0
	}
	if !f.Catalogs {
		size = min(size, f.mostIn(h))
	}
	return size, ok && size >= f.MinRows
}

// isObject tells whether a dropped object is the one that is wanted.
func (f *Filter) isObject(n Name) bool { return n.Part == f.Object && f.Table.Matches(n) }

// takesObject tells whether a transaction is wanted because it dropped an object, where no table is named.
func (f *Filter) takesObject(n Name) bool {
	return f.Table == (Table{}) && (f.Kind == nil || *f.Kind == Drop) && (f.Database == "" || f.Database == n.Database) && !n.System()
}

// dropsDatabases tells whether dropped databases are wanted. What they were called is not in the WAL.
func (f *Filter) dropsDatabases() bool {
	return f.Kind != nil && *f.Kind == Drop && f.Table == (Table{})
}

// mostIn is how large one transaction in a segment is at most over all users' tables.
func (f *Filter) mostIn(h *Head) int64 {
	if f.Kind != nil {
		return h.Most[*f.Kind]
	}
	return h.MostRows
}

// Match tells whether a transaction is wanted and how large it is; dropped are the objects other than tables that it dropped.
func (f *Filter) Match(t *Transaction, tables []TableChange, dropped []Name) (size int64, ok bool) {
	if t.Committed == f.RolledBack || t.End <= f.After || f.Before != 0 && t.End >= f.Before {
		return 0, false
	}
	if _, is := slices.BinarySearch(f.XIDs, t.XID); f.XIDs != nil && !is {
		return 0, false
	}
	if !f.From.IsZero() && t.Time.Before(f.From) || !f.To.IsZero() && t.Time.After(f.To) {
		return 0, false
	}
	if f.Object != Main {
		return 0, slices.ContainsFunc(dropped, f.isObject)
	}
	ok = f.Empty || f.dropsDatabases() && len(t.DroppedDatabases) > 0 || slices.ContainsFunc(dropped, f.takesObject)
	for i := range tables {
		c := &tables[i]
		if f.meant(c.Name, c.Known) {
			n := f.size(c.Counts)
			size += n
			ok = ok || n > 0 || f.Kind == nil && c.Counts != (Counts{})
		}
	}
	return size, ok && size >= f.MinRows
}
