package journal

import (
	"slices"
	"strings"

	"velvetrewind/core/wal"
)

// Part says what of a table a relation file holds.
type Part uint8

// The parts of a table; Other is a relation without rows of its own to lose, such as a sequence.
const (
	Main Part = iota
	Toast
	Index
	Other
)

// Name is what a relation file was called: the table that it belongs to, and which part of it.
type Name struct {
	OID                     uint32 // of the table
	Database, Schema, Table string
	Part                    Part
}

// System tells whether the table is one of the server's own catalogs.
func (n Name) System() bool { return n.Schema == "pg_catalog" || n.Schema == "information_schema" }

// Lookup finds the name of a relation file; ok is false if nobody knows it.
type Lookup func(wal.RelationRef) (n Name, ok bool)

// Kind is a way in which a transaction changes a table.
type Kind int

// The kinds. The first three count rows, the others happen or not.
const (
	Insert Kind = iota
	Update
	Delete
	Truncate // all rows at once; how many is not in the WAL
	Drop
	Create
	Rewrite // the same rows in a new file: VACUUM FULL, CLUSTER, SET TABLESPACE, some ALTER TABLE

	Kinds int = iota
)

var kindNames = [Kinds]string{"insert", "update", "delete", "truncate", "drop", "create", "rewrite"}

func (k Kind) String() string { return kindNames[k] }

// ParseKind reads the name of a kind.
func ParseKind(s string) (Kind, bool) {
	i := slices.Index(kindNames[:], strings.ToLower(s))
	return Kind(i), i >= 0
}

// KindNames lists the kinds, for help.
func KindNames() []string { return kindNames[:] }

// Counts counts by Kind.
type Counts [Kinds]int64

// Rows is how many rows were changed.
func (c Counts) Rows() int64 { return c[Insert] + c[Update] + c[Delete] }

// TableChange is what a transaction did to one table. Where nobody knows the table's
// name, Known is false and File says which relation file it is about.
type TableChange struct {
	Name
	Known  bool
	File   wal.RelationRef
	Counts Counts
}

// pgClass is the catalog of relations: its oid, and its filenode until it is rewritten.
const pgClass = 1259

// Tables tells what a transaction did to tables: the rows of TOAST and index
// relations are folded away, and files made and dropped are understood as tables
// created, dropped, truncated or rewritten.
func (t *Transaction) Tables(names Lookup) []TableChange { return t.tables(nil, names) }

// tables appends to list.
func (t *Transaction) tables(list fold, names Lookup) []TableChange {
	var catalog Counts // rows of pg_class
	for _, c := range t.Changes {
		n, known := names(c.Relation)
		if c.Relation.Filenode == pgClass || n.System() && n.Table == "pg_class" {
			catalog[Insert], catalog[Delete] = catalog[Insert]+c.Inserted, catalog[Delete]+c.Deleted
		}
		if known && n.Part != Main {
			continue
		}
		counts := &list.of(c.Relation, n, known).Counts
		counts[Insert] += c.Inserted
		counts[Update] += c.Updated
		counts[Delete] += c.Deleted
	}
	t.foldFiles(&list, names, catalog)
	for _, oid := range t.Truncated {
		if i := slices.IndexFunc(list, func(c TableChange) bool { return c.Known && c.OID == oid }); i >= 0 {
			list[i].Counts[Truncate], list[i].Counts[Rewrite], list[i].Counts[Drop] = 1, 0, 0
		}
	}
	return list
}

// foldFiles understands files that went as tables dropped, truncated or rewritten. A
// dropped table's row in pg_class is deleted, a truncated one's is not; a rewrite
// makes a table to write to and deletes it, and a table that is moved gets its pages
// copied, or another tablespace.
func (t *Transaction) foldFiles(list *fold, names Lookup, catalog Counts) {
	var replaced []uint32
	for _, ref := range t.Dropped {
		n, known := names(ref)
		if !known || n.Part != Main || slices.Contains(t.Created, ref) {
			continue
		}
		counts := &list.of(ref, n, true).Counts
		successor, has := t.successor(n, names)
		switch {
		case catalog[Delete] > 0 && !has:
			counts[Drop] = 1
			continue
		case catalog[Delete] > 0 && catalog[Insert] > 0:
			counts[Rewrite] = 1
			counts[Insert] -= t.copied(n, names)
		case has && (successor.Space != ref.Space || slices.Contains(t.Filled, successor)):
			counts[Rewrite] = 1
		default:
			counts[Truncate] = 1
		}
		replaced = append(replaced, n.OID)
	}
	for _, ref := range t.Created {
		n, known := names(ref)
		if known && n.Part == Main && !slices.Contains(replaced, n.OID) && !slices.Contains(t.Dropped, ref) {
			list.of(ref, n, true).Counts[Create] = 1
		}
	}
}

// copied counts the rows that a rewrite put into a table's new file: they are not new.
func (t *Transaction) copied(n Name, names Lookup) (rows int64) {
	for _, c := range t.Changes {
		m, known := names(c.Relation)
		if known && m.Part == Main && m.OID == n.OID && m.Database == n.Database && slices.Contains(t.Created, c.Relation) {
			rows += c.Inserted
		}
	}
	return rows
}

// successor is the file that the transaction makes for a table and leaves in place.
func (t *Transaction) successor(n Name, names Lookup) (wal.RelationRef, bool) {
	for _, ref := range t.Created {
		m, known := names(ref)
		if known && m.Part == Main && m.OID == n.OID && m.Database == n.Database && !slices.Contains(t.Dropped, ref) {
			return ref, true
		}
	}
	return wal.RelationRef{}, false
}

// fold gathers changes by table.
type fold []TableChange

func (f *fold) of(ref wal.RelationRef, n Name, known bool) *TableChange {
	for i := range *f {
		c := &(*f)[i]
		if c.Known == known && (known && c.OID == n.OID && c.Database == n.Database || !known && c.File == ref) {
			return c
		}
	}
	*f = append(*f, TableChange{Name: n, Known: known, File: ref})
	return &(*f)[len(*f)-1]
}

// Lost tells whether rows of users went with the transaction: deleted, truncated or
// dropped with their table or database.
func Lost(list []TableChange) bool {
	return slices.ContainsFunc(list, func(c TableChange) bool {
		return !c.System() && (c.Counts[Delete] > 0 || c.Counts[Truncate] > 0 || c.Counts[Drop] > 0)
	})
}
