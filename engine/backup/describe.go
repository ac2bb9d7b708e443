package backup

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// Content is what a base backup holds, in bytes before compression, and what it takes
// in the store.
type Content struct {
	Databases   []DatabaseContent // largest first
	Tablespaces []TablespaceContent
	Relations   []RelationContent // the largest tables, with their indexes and TOAST, but for system catalogs
	MoreTables  int               // tables that are not listed
	Catalogs    int64             // bytes of system catalogs, which are not listed
	Other       int64             // bytes of files that are no relations
	Packs       int
	// bytes of packs that no other backup needs: dropping it frees them; left out while what another one needs cannot
	// be read
	Alone    *int64
	FirstWAL string // name of the first WAL segment that it needs
	LastWAL  string // name of the last WAL segment without which it cannot be restored
}

// DatabaseContent is what a database takes.
type DatabaseContent struct {
	OID   uint32 // 0: the catalogs that all databases share
	Name  string // empty where nobody knows it
	Files int64
	Bytes int64
}

// TablespaceContent is what a tablespace takes.
type TablespaceContent struct {
	OID      uint32
	Location string // empty: within the data directory
	Bytes    int64
}

// RelationContent is what a table takes.
type RelationContent struct {
	Database string
	Schema   string
	Table    string
	Main     int64
	Indexes  int64
	TOAST    int64
}

// mostTables is how many tables a description lists.
const mostTables = 200

// Describe reads a backup's manifest. names are what relation files were called then.
func Describe(ctx context.Context, v *vault.Vault, c *catalog.Catalog, b catalog.Backup, names journal.Lookup) (Content, error) {
	d := describer{databases: make(map[uint32]*DatabaseContent), spaces: make(map[uint32]int64),
		tables: make(map[tableKey]*RelationContent), names: names}
	var head layout.Head
	tail, err := ReadManifest(ctx, v, b.ClusterID, b.ID, layout.Visit{
		Head: func(h layout.Head) error { head = h; return ctx.Err() },
		File: func(f *layout.File) error { d.file(f); return ctx.Err() },
	})
	if Unreadable(err) {
		return Content{}, problem.Wrap(err, problem.Failed, "what the base backup holds cannot be read",
			"See what of the store is at fault: velvet store audit --full")
	}
	if err != nil {
		return Content{}, err
	}
	out := d.content
	out.Packs = tail.Packs
	out.FirstWAL = pg.Segment{Timeline: tail.Timeline, Number: head.SegmentSize.Number(tail.Start)}.Name(head.SegmentSize)
	out.LastWAL = pg.Segment{Timeline: tail.Timeline, Number: head.SegmentSize.Number(tail.Stop - 1)}.Name(head.SegmentSize)
	for _, x := range d.databases {
		if x.Name == "" {
			x.Name = pinned[x.OID]
		}
		out.Databases = append(out.Databases, *x)
	}
	slices.SortFunc(out.Databases, func(a, b DatabaseContent) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.OID, b.OID))
	})
	locations := map[uint32]string{}
	for _, s := range head.Tablespaces {
		locations[s.OID] = s.Location
	}
	for oid, bytes := range d.spaces {
		out.Tablespaces = append(out.Tablespaces, TablespaceContent{oid, locations[oid], bytes})
	}
	slices.SortFunc(out.Tablespaces, func(a, b TablespaceContent) int { return cmp.Compare(a.OID, b.OID) })
	out.Relations, out.MoreTables = d.largest()
	alone, err := Alone(ctx, v, c, b.ClusterID, b.ID)
	switch {
	case err == nil:
		out.Alone = &alone
	case !Unreadable(err):
		return out, err
	}
	return out, nil
}

// pinned are databases to which nobody may connect, and which are known by their oid
// (pg_database.dat, from PostgreSQL 15 on).
var pinned = map[uint32]string{4: "template0"}

type tableKey struct {
	database string
	oid      uint32
}

// describer adds up the files of a backup.
type describer struct {
	content   Content
	databases map[uint32]*DatabaseContent
	spaces    map[uint32]int64
	tables    map[tableKey]*RelationContent
	names     journal.Lookup
}

func (d *describer) file(f *layout.File) {
	if f.Dir {
		return
	}
	relation, _, ok := wal.RelationOf(f.Path)
	if !ok || f.Place != layout.InData {
		d.content.Other += f.Size
		return
	}
	db := d.databases[relation.Database]
	if db == nil {
		db = &DatabaseContent{OID: relation.Database}
		d.databases[relation.Database] = db
	}
	db.Files++
	db.Bytes += f.Size
	d.spaces[relation.Space] += f.Size
	name, known := d.names(relation)
	if !known {
		return
	}
	if relation.Database != 0 {
		db.Name = name.Database
	}
	if name.System() || name.Schema == "pg_toast" {
		d.content.Catalogs += f.Size
		return
	}
	key := tableKey{name.Database, name.OID}
	t := d.tables[key]
	if t == nil {
		t = &RelationContent{Database: name.Database, Schema: name.Schema, Table: name.Table}
		d.tables[key] = t
	}
	switch name.Part {
	case journal.Index:
		t.Indexes += f.Size
	case journal.Toast:
		t.TOAST += f.Size
	default:
		t.Main += f.Size
	}
}

func (d *describer) largest() (list []RelationContent, more int) {
	list = []RelationContent{}
	for _, t := range d.tables {
		list = append(list, *t)
	}
	slices.SortFunc(list, func(a, b RelationContent) int {
		return cmp.Or(cmp.Compare(b.Main+b.Indexes+b.TOAST, a.Main+a.Indexes+a.TOAST),
			cmp.Compare(a.Database+a.Schema+a.Table, b.Database+b.Schema+b.Table))
	})
	n := min(len(list), mostTables)
	return list[:n], len(list) - n
}

// Alone adds up the packs that some backups need and no other does. It is Unreadable if
// it cannot be known what another one needs; of those themselves what is known counts.
func Alone(ctx context.Context, v *vault.Vault, c *catalog.Catalog, cluster string, ids ...string) (bytes int64, err error) {
	if len(ids) == 0 {
		return 0, nil
	}
	t := tidier{vault: v, catalog: c, cluster: cluster, going: ids}
	if err := t.look(ctx); err != nil {
		return 0, err
	}
	for _, p := range t.packs {
		others := slices.ContainsFunc(p.users, func(user string) bool { return !slices.Contains(ids, user) })
		if len(p.users) > 0 && !others {
			bytes += p.size
		}
	}
	return bytes, nil
}

// InStore is what a cluster takes in the store, by what it is for.
type InStore struct {
	Objects int64
	Packs   int64 // bytes of base backups, each shared part once
	WAL     int64 // bytes of WAL
	Journal int64 // bytes of the change journal
}

// Measure lists a store, and adds up what each cluster takes, by id.
func Measure(ctx context.Context, v *vault.Vault) (map[string]*InStore, error) {
	all := make(map[string]*InStore)
	err := v.List(ctx, "clusters/", func(i store.Info) error {
		id := store.ClusterOf(i.Key)
		m := all[id]
		if m == nil {
			m = new(InStore)
			all[id] = m
		}
		m.Objects++
		switch rest := i.Key[len("clusters/")+len(id)+1:]; {
		case strings.HasPrefix(rest, "wal/"):
			m.WAL += i.Size
		case strings.HasPrefix(rest, "journal/"):
			m.Journal += i.Size
		default:
			m.Packs += i.Size
		}
		return ctx.Err()
	})
	return all, err
}
