package journal

import (
	"slices"

	"velvetrewind/core/wal"
)

// objectParts are the kinds of objects that are not tables, with their words and the catalogs of which a row goes with each.
var objectParts = map[Part]struct {
	word, table string
	catalog     uint32
}{
	View: {"view", "pg_rewrite", wal.CatalogRules}, Sequence: {"sequence", "pg_sequence", wal.CatalogSequences},
	IndexItself: {"index", "pg_index", wal.CatalogIndexes}, Function: {"function", "pg_proc", wal.CatalogFunctions},
	Schema: {"schema", "pg_namespace", wal.CatalogSchemas},
}

// ParseObject reads the word for a kind of object that is not a table: view, sequence, index, function or schema.
func ParseObject(word string) (Part, bool) {
	for p, o := range objectParts {
		if o.word == word {
			return p, true
		}
	}
	return Main, false
}

// PartOf is the kind of object of which a catalog tells, by its oid; Main for any other catalog.
func PartOf(catalog uint32) Part {
	for p, o := range objectParts {
		if o.catalog == catalog {
			return p
		}
	}
	return Main
}

// Word is what an object that is not a table is: "view", …; "" for a table and its parts.
func (p Part) Word() string { return objectParts[p].word }

// ByObject is where a Lookup finds an object that is not a table by its oid: no tablespace has the oid of a catalog.
func ByObject(p Part, database, oid uint32) wal.RelationRef {
	return wal.RelationRef{Space: objectParts[p].catalog, Database: database, Filenode: oid}
}

// objects are those of a commit's that the transaction did not make itself, each once.
func objects(list []wal.ObjectOID, made []Named) []wal.ObjectOID {
	if len(list) == 0 {
		return nil
	}
	not := make(map[wal.ObjectOID]bool)
	for _, n := range made {
		p := n.Part
		if p == Index {
			p = IndexItself
		}
		if o, is := objectParts[p]; is {
			not[wal.ObjectOID{Catalog: o.catalog, Database: n.File.Database, OID: n.OID}] = true
		}
	}
	return slices.DeleteFunc(list, func(o wal.ObjectOID) bool {
		seen := not[o]
		not[o] = true
		return seen
	})
}

// DroppedObjects are the objects that a transaction dropped that are not tables. Where it changed others of the same kind
// besides, which of them went is not known, and none of that kind is told.
func (t *Transaction) DroppedObjects(names Lookup) (list []Name) {
	if len(t.Objects) == 0 {
		return nil
	}
	catalogs := t.catalogCounts(names)
	for p := View; p <= Schema; p++ {
		of, n := objectParts[p], int64(0)
		for _, o := range t.Objects {
			if o.Catalog == of.catalog {
				n++
			}
		}
		if n == 0 || catalogs[of.table][Delete] < n {
			continue
		}
		for _, o := range t.Objects {
			if o.Catalog != of.catalog {
				continue
			}
			if name, known := names(ByObject(p, o.Database, o.OID)); known {
				list = append(list, name)
			}
		}
	}
	return list
}
