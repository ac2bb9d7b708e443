// Package names keeps what relation files are called: it asks the protected cluster,
// remembers every answer with its time, and so still knows a table after it was
// dropped, truncated or rewritten.
//
// Invariant: a name once learned is never forgotten or changed, only followed by a later one. A file that nobody ever
// saw in a catalog has no name. Names that the WAL itself tells are found by core/journal.
package names

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	"unique"

	"github.com/agnivade/levenshtein"

	"velvetrewind/core/journal"
	"velvetrewind/core/partial"
	"velvetrewind/core/value"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
)

// Book is the names of one cluster. It is safe for concurrent use.
type Book struct {
	catalog *catalog.Catalog
	cluster string

	mu    sync.RWMutex
	read  time.Time                     // the newest name that was read from the catalogue
	files map[wal.RelationRef][]version // oldest first
	rows  map[table]int64               // latest estimate

	databases map[uint32]database
	schemas   map[schema]string

	unsaved []catalog.RelationName
	columns columns

	sampling, saving sync.Mutex
}

// version is what something is called from a time on. There are tens of thousands.
type version struct {
	name  *journal.Name // shared, and never changed
	since int64         // microseconds since 1970
	// bare says that it was read from the WAL, which does not tell what the table stands below.
	bare bool
}

// bareRows is what the catalogue has for the rows of a table whose name was read from the WAL.
const bareRows = -2

type schema struct{ database, oid uint32 }

// database is one that can be connected to.
type database struct{ name, encoding string }

type table struct {
	database string
	oid      uint32
}

// Books are the books of all clusters, each opened once.
type Books struct {
	Catalog *catalog.Catalog

	mu   sync.Mutex
	open map[string]*Book
}

// Of gives the book of a cluster with everything that the catalogue knows by now,
// whichever instance of the service has learned it.
func (b *Books) Of(ctx context.Context, cluster string) (*Book, error) {
	b.mu.Lock()
	book := b.open[cluster]
	if book == nil {
		if b.open == nil {
			b.open = make(map[string]*Book)
		}
		book = &Book{catalog: b.Catalog, cluster: cluster, files: make(map[wal.RelationRef][]version), rows: make(map[table]int64),
			databases: make(map[uint32]database), schemas: make(map[schema]string)}
		b.open[cluster] = book
	}
	b.mu.Unlock()
	return book, book.catchUp(ctx)
}

// catchUp reads what was learned since it was last read.
func (b *Book) catchUp(ctx context.Context) error {
	b.mu.RLock()
	after := b.read
	b.mu.RUnlock()
	last := after
	err := b.catalog.RelationNames(ctx, b.cluster, after, func(n catalog.RelationName) {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.learn(n)
		last = n.Since
	})
	if err != nil {
		return err // what was learned at the same time and not read would be passed over
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.read = last
	return nil
}

// learn takes a name over, and tells whether it was new.
func (b *Book) learn(n catalog.RelationName) bool {
	ref := wal.RelationRef{Space: n.Space, Database: n.Database, Filenode: n.Filenode}
	one := func(s string) string { return unique.Make(s).Value() } // tens of thousands of tables are in few schemas
	name := journal.Name{OID: n.OID, Database: one(n.DBName), Schema: one(n.Schema), Table: n.Name, Part: journal.Part(n.Part),
		Above: one(n.Above)}
	b.noteRows(&n)
	own := ref
	switch name.Part {
	case journal.Main:
		own = journal.ByOID(ref.Database, n.OID)
	case journal.Sequence:
		own = journal.ByObject(name.Part, ref.Database, n.OID)
	}
	called := version{&name, n.Since.UnixMicro(), n.Rows == bareRows}
	if own != ref { // which is not so of what has no file
		b.follow(own, &called)
		if name.Part == journal.Main {
			b.follow(journal.Filed(ref.Database, n.OID), &called)
		}
	}
	return b.follow(ref, &called)
}

// noteRows keeps the latest estimate of a table's rows.
func (b *Book) noteRows(n *catalog.RelationName) {
	if journal.Part(n.Part) == journal.Main && n.Rows >= 0 {
		b.rows[table{n.DBName, n.OID}] = n.Rows
	}
}

// knows tells whether learn would find nothing new in a name, whenever it was seen.
func (b *Book) knows(n *catalog.RelationName) bool {
	list := b.files[wal.RelationRef{Space: n.Space, Database: n.Database, Filenode: n.Filenode}]
	if len(list) == 0 {
		return false
	}
	last := list[len(list)-1]
	return !last.bare && *last.name == journal.Name{OID: n.OID, Database: n.DBName, Schema: n.Schema, Table: n.Name,
		Part: journal.Part(n.Part), Above: n.Above}
}

// follow adds what something is called from a time on, and tells whether that was new.
func (b *Book) follow(ref wal.RelationRef, called *version) bool {
	list := b.files[ref]
	for _, v := range list {
		if v.since == called.since {
			return false // read back
		}
	}
	if k := len(list); k > 0 && *list[k-1].name == *called.name {
		sure := list[k-1].bare && !called.bare // and since then
		list[k-1].bare = list[k-1].bare && called.bare
		return sure
	}
	b.files[ref] = append(list, *called)
	return true
}

// At gives the names as they were at a time: of each file the newest that was known
// by then, or else the first that was learned.
func (b *Book) At(t time.Time) journal.Lookup {
	return func(ref wal.RelationRef) (journal.Name, bool) {
		b.mu.RLock()
		defer b.mu.RUnlock()
		list := b.files[ref]
		if len(list) == 0 {
			return journal.Name{}, false
		}
		found := list[0].name
		for _, v := range list[1:] {
			if v.since > t.UnixMicro() {
				break
			}
			found = v.name
		}
		return *found, true
	}
}

// Then gives the names as they were learned by a time; of what was not known by then, there is none.
func (b *Book) Then(t time.Time) journal.Lookup {
	return func(ref wal.RelationRef) (n journal.Name, known bool) {
		b.mu.RLock()
		defer b.mu.RUnlock()
		list := b.files[ref]
		for i, v := range list {
			if v.since > t.UnixMicro() {
				break
			}
			n, known = *v.name, true
			if v.bare && i+1 < len(list) && list[i+1].name.Schema == n.Schema && list[i+1].name.Table == n.Table {
				n = *list[i+1].name // which the server told next
			}
		}
		return n, known
	}
}

// Ever are the tables that were ever called by a name, or stood below one that was.
func (b *Book) Ever(t journal.Table) map[journal.TableID]bool {
	b.mu.RLock()
	defer b.mu.RUnlock()
	found := make(map[journal.TableID]bool)
	for _, versions := range b.files {
		for _, v := range versions {
			if v.name.Part == journal.Main && t.Covers(*v.name) {
				found[journal.TableID{Database: v.name.Database, OID: v.name.OID}] = true
			}
		}
	}
	return found
}

// Lacks are the files that a partial copy can do without.
func (b *Book) Lacks(s *partial.Spec) partial.Lacks {
	b.mu.RLock()
	defer b.mu.RUnlock()
	var files []wal.RelationRef
	var called []journal.Name
	for ref, versions := range b.files {
		called = called[:0]
		for _, v := range versions {
			called = append(called, *v.name)
		}
		if s.Spares(ref, called) {
			files = append(files, ref)
		}
	}
	return partial.Of(files)
}

// Named are the tables of a database, "" for any, that were ever called by a name, or stood below one that was.
func (b *Book) Named(database string, t journal.Table) (list []journal.Name) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	for _, versions := range b.files {
		for _, v := range versions {
			if v.name.Part == journal.Main && (database == "" || v.name.Database == database) && t.Covers(*v.name) {
				list = append(list, *v.name)
			}
		}
	}
	return list
}

// Files are those that a table, or an index of one, has now which is called DATABASE.SCHEMA.NAME, with those of its TOAST table and
// indexes.
func (b *Book) Files(called string) (list []wal.RelationRef) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	for ref, versions := range b.files {
		if n := versions[len(versions)-1].name; n.Database+"."+n.Schema+"."+n.Table == called {
			list = append(list, ref)
		}
	}
	return list
}

// Databases are the oids of the databases that were ever called by a name, as far as they were asked, or anything in them was seen.
func (b *Book) Databases(name string) []uint32 {
	b.mu.RLock()
	defer b.mu.RUnlock()
	var list []uint32
	for oid, db := range b.databases { // also of those that let nobody in
		if db.name == name {
			list = append(list, oid)
		}
	}
	for ref, versions := range b.files {
		for _, v := range versions {
			if v.name.Database == name && ref.Database != 0 && !slices.Contains(list, ref.Database) {
				list = append(list, ref.Database)
			}
		}
	}
	return list
}

// mostSimilar is how many names are offered.
const mostSimilar = 5

// Similar are names of tables, or of other objects of a kind, that are much like one that nothing is called, the most similar
// first; none if one is called that, or another stands below it.
func (b *Book) Similar(t journal.Table, part journal.Part) (list []string) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	distance := make(map[string]int)
	for _, versions := range b.files {
		for _, v := range versions {
			n := *v.name
			if n.Part != part {
				continue
			}
			if t.Covers(n) {
				return nil
			}
			if d := levenshtein.ComputeDistance(strings.ToLower(t.Name), strings.ToLower(n.Table)); !n.System() &&
				(d <= 1+len(t.Name)/4 || strings.Contains(n.Table, t.Name)) {
				distance[journal.Table{Schema: n.Schema, Name: n.Table}.String()] = d
			}
		}
	}
	list = slices.SortedFunc(maps.Keys(distance), func(x, y string) int {
		return cmp.Or(cmp.Compare(distance[x], distance[y]), cmp.Compare(x, y))
	})
	return list[:min(len(list), mostSimilar)]
}

// Now gives the names as they were learned last.
func (b *Book) Now() journal.Lookup { return b.At(time.Unix(1<<40, 0)) }

// Rows is how many rows a table had when it was last asked for, or 0 if that is not known.
func (b *Book) Rows(c journal.TableChange) int64 {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.rows[table{c.Database, c.OID}]
}

// See learns from a transaction what the files that it made are called. It tells
// whether a file was made that only the server can name.
func (b *Book) See(t *journal.Transaction) (unclear bool) {
	if t.Committed {
		b.noteChanged(t)
	}
	if !t.Committed || len(t.Created)+len(t.Named) == 0 {
		return false
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, n := range t.Named {
		name, ok := b.nameOf(n, t)
		if ok && name.Part == journal.IndexItself { // of which table its file is, the next sample tells
			b.note(journal.ByObject(name.Part, n.File.Database, n.OID), name, t.Time)
		} else if ok {
			b.note(n.File, name, t.Time)
		}
		unclear = unclear || !ok && n.Part == journal.Main
	}
	replaced := t.Replacements()
	unclear = unclear || len(t.Named) == 0 && len(replaced) == 0
	for _, pair := range replaced {
		if list := b.files[pair[0]]; len(list) > 0 {
			b.note(pair[1], *list[len(list)-1].name, t.Time)
		}
	}
	return unclear
}

// nameOf puts a name together from a row of pg_class, whose text is in the encoding of its database.
func (b *Book) nameOf(n journal.Named, t *journal.Transaction) (journal.Name, bool) {
	database, ok := b.databases[n.File.Database]
	if !ok {
		return journal.Name{}, false
	}
	called, err := value.InUTF8(n.Name, database.encoding)
	if err != nil {
		return journal.Name{}, false // the server may know
	}
	if n.Copy { // what it is the new form of
		for _, old := range t.Dropped {
			if list := b.files[old]; len(list) > 0 && list[len(list)-1].name.OID == n.OID && list[len(list)-1].name.Part == journal.Main {
				return *list[len(list)-1].name, true
			}
		}
		return journal.Name{}, false
	}
	switch n.Part {
	case journal.Toast:
		return journal.Name{}, false // of which table, the next sample tells
	case journal.Index:
		n.Part = journal.IndexItself
	case journal.Schema:
		b.schemas[schema{n.File.Database, n.OID}] = called
		return journal.Name{OID: n.OID, Database: database.name, Table: called, Part: n.Part}, true
	}
	name, ok := b.schemas[schema{n.File.Database, n.Schema}]
	return journal.Name{OID: n.OID, Database: database.name, Schema: name, Table: called, Part: n.Part}, ok
}

// note keeps a name that was read from the WAL, unless the file has one.
func (b *Book) note(file wal.RelationRef, name journal.Name, since time.Time) {
	if len(b.files[file]) > 0 {
		return
	}
	n := catalog.RelationName{
		Space: file.Space, Database: file.Database, Filenode: file.Filenode, Since: since, OID: name.OID, DBName: name.Database,
		Schema: name.Schema, Name: name.Table, Part: int16(name.Part), Rows: bareRows, Above: name.Above,
	}
	if b.learn(n) {
		b.unsaved = append(b.unsaved, n)
	}
}

// Save writes what was learned to the catalogue. What could not be written is written
// the next time.
func (b *Book) Save(ctx context.Context) error {
	b.saving.Lock()
	defer b.saving.Unlock()
	b.mu.Lock()
	list := b.unsaved
	b.mu.Unlock()
	if len(list) == 0 {
		return nil
	}
	if err := b.catalog.AddRelationNames(ctx, b.cluster, list); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.unsaved = slices.Clone(b.unsaved[len(list):]) // the rest alone: the list was long once
	return nil
}
