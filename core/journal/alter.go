package journal

import (
	"bytes"
	"fmt"
	"slices"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// pgAttribute is the catalog of columns: its filenode until it is rewritten. Of one that was, dropped columns are not seen.
const pgAttribute = 1249

// firstOfUsers is the first oid that relations of users can have (access/transam.h).
const firstOfUsers = 16384

// droppedColumn begins what a column is called once it was dropped (RemoveAttributeById in heap.c).
var droppedColumn = []byte("........pg.dropped.")

// seeColumn notices that a column is dropped.
func (o *Open) seeColumn(r *wal.Record, v *pg.Version) error {
	row, ok, err := wal.UpdatedRow(r, v)
	if ok && bytes.Contains(row, droppedColumn) {
		o.DroppedColumns++
	}
	return err
}

// lock notes an exclusive lock on a relation of users, once.
func (o *Open) lock(l wal.RelationOID) {
	switch {
	case l.Database == 0 || l.OID < firstOfUsers:
		return
	case len(o.Locked) <= few:
		if slices.Contains(o.Locked, l) {
			return
		}
	default:
		if o.locks == nil {
			o.locks = make(map[wal.RelationOID]bool)
			for _, have := range o.Locked {
				o.locks[have] = true
			}
		}
		if o.locks[l] {
			return
		}
		o.locks[l] = true
	}
	o.Locked = append(o.Locked, l)
}

// altered are those of the locked relations of which a commit says that they are something else now.
func altered(locked []wal.RelationOID, end wal.End) (list []uint32) {
	if len(locked) == 0 || len(end.Invalidated) == 0 {
		return nil
	}
	is := make(map[wal.RelationOID]bool, len(end.Invalidated))
	for _, r := range end.Invalidated {
		is[r] = true
	}
	for _, l := range locked {
		if is[l] && l.Database == end.Database && !slices.Contains(list, l.OID) {
			list = append(list, l.OID)
		}
	}
	return list
}

// catalogCounts are the rows that a transaction changed in each of the server's catalogs, by the catalog's name.
func (t *Transaction) catalogCounts(names Lookup) map[string]Counts {
	list := make(map[string]Counts)
	for _, c := range t.Changes {
		if n, known := names(c.Relation); known && n.System() && n.Part == Main {
			counts := list[n.Table]
			counts[Insert] += c.Inserted
			counts[Update] += c.Updated
			counts[Delete] += c.Deleted
			list[n.Table] = counts
		}
	}
	return list
}

// alters tells whether a transaction changed columns, constraints or defaults. A rewrite by itself makes and drops those of
// the table to which it writes.
func (t *Transaction) alters(names Lookup) bool {
	catalogs := t.catalogCounts(names)
	for _, name := range []string{"pg_attribute", "pg_constraint", "pg_attrdef", "pg_inherits"} {
		if c := catalogs[name]; c[Update] > 0 || c[Insert] != c[Delete] {
			return true
		}
	}
	return false
}

// ChangesColumns tells whether a transaction may have changed columns of the tables that it altered.
func (t *Transaction) ChangesColumns(names Lookup) bool {
	return len(t.Altered) > 0 && t.catalogCounts(names)["pg_attribute"] != Counts{}
}

// AddsColumns tells whether all that a transaction did to columns was to add some, as with the tables that it made.
func (t *Transaction) AddsColumns(names Lookup) bool {
	c := t.catalogCounts(names)["pg_attribute"]
	return c[Update] == 0 && c[Delete] == 0
}

// Alterations says in words what a transaction that altered tables changed in the catalogs: of all of them together, for
// the WAL does not say of which. It is empty for one that altered none.
func (t *Transaction) Alterations(names Lookup) (words []string) {
	if len(t.Altered) == 0 {
		return nil
	}
	catalogs := t.catalogCounts(names)
	say := func(n int64, one, many string) {
		switch {
		case n == 1:
			words = append(words, one)
		case n > 1:
			words = append(words, fmt.Sprintf(many, n))
		}
	}
	columns := catalogs["pg_attribute"]
	say(t.DroppedColumns, "a column dropped", "%d columns dropped")
	say(columns[Insert]-columns[Delete], "a column added", "%d columns added")
	say(
		columns[Update]-t.DroppedColumns,
		"a column renamed, retyped or otherwise changed",
		"%d columns renamed, retyped or otherwise changed",
	)
	for _, k := range []struct{ catalog, thing, things string }{
		{"pg_attrdef", "a default", "defaults"}, {"pg_constraint", "a constraint", "constraints"},
		{"pg_inherits", "a partition or child", "partitions or children"}, {"pg_trigger", "a trigger", "triggers"},
		{"pg_policy", "a policy", "policies"}, {"pg_rewrite", "a rule", "rules"}, {"pg_index", "an index", "indexes"},
	} {
		c := catalogs[k.catalog]
		say(c[Insert], k.thing+" added", "%d "+k.things+" added")
		say(c[Delete], k.thing+" removed", "%d "+k.things+" removed")
		say(c[Update], k.thing+" changed", "%d "+k.things+" changed")
	}
	if c := catalogs["pg_class"]; len(words) == 0 && c[Update] > 0 {
		words = append(words, "its name, owner or storage changed")
	}
	return words
}
