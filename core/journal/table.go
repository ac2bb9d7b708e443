package journal

import (
	"fmt"
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
	// The others are objects of their own, which are found by ByObject.
	View
	Sequence // which has a file, too
	IndexItself
	Function
	Schema
)

// Name is what a relation file was called: the table that it belongs to, and which part of it.
type Name struct {
	OID                     uint32 // of the table
	Database, Schema, Table string
	Part                    Part
	// Above are the tables of which it is a partition or child, the nearest first, one to a line, each as SQL names it
	// with its schema; "" for none.
	Above string
}

// System tells whether the table is one of the server's own catalogs.
func (n Name) System() bool { return n.Schema == "pg_catalog" || n.Schema == "information_schema" }

// Lookup finds the name of a relation file; ok is false if nobody knows it.
type Lookup func(wal.RelationRef) (n Name, ok bool)

// Operation is a way in which a transaction changes a table.
type Operation int

// The kinds. The first three count rows, the others happen or not.
const (
	Insert Operation = iota
	Update
	Delete
	Truncate // all rows at once; how many is not in the WAL
	Drop
	Create
	Rewrite // the same rows in a new file: VACUUM FULL, CLUSTER, SET TABLESPACE, some ALTER TABLE
	Alter   // what the catalogs say of it, under an exclusive lock

	Operations int = iota
)

var kindNames = [Operations]string{"insert", "update", "delete", "truncate", "drop", "create", "rewrite", "alter"}

func (k Operation) String() string { return kindNames[k] }

// MarshalText writes the name.
func (k Operation) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the name.
func (k *Operation) UnmarshalText(text []byte) error {
	named, ok := ParseOperation(string(text))
	if !ok {
		return fmt.Errorf("%q is no kind; choose one of %s", text, strings.Join(OperationNames(), ", "))
	}
	*k = named
	return nil
}

// ParseOperation reads the name of a kind.
func ParseOperation(s string) (Operation, bool) {
	i := slices.Index(kindNames[:], strings.ToLower(s))
	return Operation(i), i >= 0
}

// OperationNames lists the kinds, for help.
func OperationNames() []string { return kindNames[:] }

// Counts counts by Kind.
type Counts [Operations]int64

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
func (t *Transaction) tables(list []TableChange, names Lookup) []TableChange {
	f := fold{list: list}
	var catalog Counts // rows of pg_class
	altered := false
	for _, c := range t.Changes {
		n, known := names(c.Relation)
		if c.Relation.Filenode == pgClass || n.System() && n.Table == "pg_class" {
			catalog[Insert], catalog[Delete] = catalog[Insert]+c.Inserted, catalog[Delete]+c.Deleted
		}
		altered = altered || n.System()
		if known && n.Part != Main {
			continue
		}
		counts := &f.of(c.Relation, n, known).Counts
		counts[Insert] += c.Inserted
		counts[Update] += c.Updated
		counts[Delete] += c.Deleted
	}
	t.foldFiles(&f, names, catalog)
	for _, oid := range t.Truncated {
		for i := range f.list {
			if c := &f.list[i]; c.Known && c.OID == oid {
				c.Counts[Truncate], c.Counts[Rewrite], c.Counts[Drop] = 1, 0, 0
				break
			}
		}
	}
	if altered && len(t.Altered) > 0 {
		t.foldAltered(&f, names, catalog)
	}
	return f.list
}

// ByOID is where a Lookup finds a table by its oid, whatever its file is: no file is in a tablespace 0.
func ByOID(database, oid uint32) wal.RelationRef {
	return wal.RelationRef{Database: database, Filenode: oid}
}

// Filed is where a Lookup finds a table by its oid if it is known that it has a file, as a partitioned one has not.
func Filed(database, oid uint32) wal.RelationRef {
	return wal.RelationRef{Space: pgClass, Database: database, Filenode: oid}
}

// foldAltered understands what was locked exclusively, and is another table to other sessions now, as altered, or where
// it has no file of its own, by its row in pg_class as made or dropped.
func (t *Transaction) foldAltered(f *fold, names Lookup, catalog Counts) {
	var without []TableID // a file: partitioned tables
	kept := t.alters(names)
	for _, oid := range t.Altered {
		n, known := names(ByOID(t.Database, oid))
		if !known || n.Part != Main {
			continue
		}
		c := f.of(ByOID(t.Database, oid), n, true)
		counts := &c.Counts
		if counts[Drop]+counts[Create]+counts[Truncate] > 0 || counts[Rewrite] > 0 && !kept {
			continue
		}
		counts[Alter] = 1
		// What has a file and was dropped has lost it, and is told already.
		if _, filed := names(Filed(t.Database, oid)); c.File.Space == 0 && !filed {
			without = append(without, TableID{n.Database, n.OID})
		}
	}
	// Of what has a file, too, there is a row in pg_class. Only where the rows tell it surely, they are not just altered.
	made, gone := catalog[Insert]-int64(len(t.Created)), catalog[Delete]-int64(len(t.Dropped))
	kind := Alter
	switch all := int64(len(without)); {
	case made <= 0 && gone >= all:
		kind = Drop
	case gone <= 0 && made >= all:
		kind = Create
	}
	for _, id := range without {
		counts := &f.list[f.find(wal.RelationRef{}, id, true)].Counts
		counts[Alter] = 0
		counts[kind] = 1
	}
}

// foldFiles understands files that went as tables dropped, truncated or rewritten. A
// dropped table's row in pg_class is deleted, a truncated one's is not; a rewrite
// makes a table to write to and deletes it, and a table that is moved gets its pages
// copied, or another tablespace.
func (t *Transaction) foldFiles(f *fold, names Lookup, catalog Counts) {
	if len(t.Created)+len(t.Dropped) == 0 {
		return
	}
	var created, dropped, filled refs
	made, copied := t.made(names, &dropped), map[TableID]int64(nil)
	replaced := make(map[TableID]bool)
	for _, ref := range t.Dropped {
		n, known := names(ref)
		if !known || n.Part != Main || created.has(t.Created, ref) {
			continue
		}
		id := TableID{n.Database, n.OID}
		counts := &f.of(ref, n, true).Counts
		successor, has := made[id]
		switch {
		case catalog[Delete] > 0 && !has:
			counts[Drop] = 1
			continue
		case catalog[Delete] > 0 && catalog[Insert] > 0:
			if copied == nil {
				copied = t.copied(names, &created)
			}
			counts[Rewrite] = 1
			counts[Insert] -= copied[id]
		case has && (successor.Space != ref.Space || filled.has(t.Filled, successor)):
			counts[Rewrite] = 1
		default:
			counts[Truncate] = 1
		}
		replaced[id] = true
	}
	for _, ref := range t.Created {
		n, known := names(ref)
		if known && n.Part == Main && !replaced[TableID{n.Database, n.OID}] && !dropped.has(t.Dropped, ref) {
			f.of(ref, n, true).Counts[Create] = 1
		}
	}
}

// TableID names a table, whatever its files and its name.
type TableID struct {
	Database string
	OID      uint32
}

// made finds the first file that the transaction makes for each table and leaves in place.
func (t *Transaction) made(names Lookup, dropped *refs) map[TableID]wal.RelationRef {
	if len(t.Dropped) == 0 {
		return nil
	}
	made := make(map[TableID]wal.RelationRef)
	for _, ref := range t.Created {
		n, known := names(ref)
		if !known || n.Part != Main || dropped.has(t.Dropped, ref) {
			continue
		}
		if _, has := made[TableID{n.Database, n.OID}]; !has {
			made[TableID{n.Database, n.OID}] = ref
		}
	}
	return made
}

// copied counts the rows that rewrites put into tables' new files: they are not new.
func (t *Transaction) copied(names Lookup, created *refs) map[TableID]int64 {
	rows := make(map[TableID]int64)
	for _, c := range t.Changes {
		if c.Inserted == 0 || !created.has(t.Created, c.Relation) {
			continue
		}
		if n, known := names(c.Relation); known && n.Part == Main {
			rows[TableID{n.Database, n.OID}] += c.Inserted
		}
	}
	return rows
}

// fold gathers changes by table.
type fold struct {
	list  []TableChange
	byID  map[TableID]int         // of list, once it is long
	other map[wal.RelationRef]int // of those that nobody knows
}

func (f *fold) of(ref wal.RelationRef, n Name, known bool) *TableChange {
	id := TableID{n.Database, n.OID}
	if i := f.find(ref, id, known); i >= 0 {
		return &f.list[i]
	}
	f.list = append(f.list, TableChange{Name: n, Known: known, File: ref})
	i := len(f.list) - 1
	if f.byID != nil {
		f.note(i)
	}
	return &f.list[i]
}

func (f *fold) find(ref wal.RelationRef, id TableID, known bool) int {
	if len(f.list) <= few {
		return slices.IndexFunc(f.list, func(c TableChange) bool {
			return c.Known == known && (known && c.OID == id.OID && c.Database == id.Database || !known && c.File == ref)
		})
	}
	if f.byID == nil {
		f.byID, f.other = make(map[TableID]int), make(map[wal.RelationRef]int)
		for i := range f.list {
			f.note(i)
		}
	}
	i, has := f.other[ref]
	if known {
		i, has = f.byID[id]
	}
	if !has {
		return -1
	}
	return i
}

func (f *fold) note(i int) {
	if c := &f.list[i]; c.Known {
		f.byID[TableID{c.Database, c.OID}] = i
	} else {
		f.other[c.File] = i
	}
}
