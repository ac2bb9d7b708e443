// Package repair judges what lies on disk of a stopped cluster, by a base backup and the WAL since, which its server is to replay
// over it.
//
// Invariant: a page is relied on where it is the base's, or where the WAL changes it, and it is whole and not of a time that the WAL
// does not reach: replay makes of it what it makes of the base's. In the place of everything else the base's is wanted, which is right
// always. Reading and writing are left to the caller.
package repair

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"velvetrewind/core/blocks"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Class says how a file of a data directory is judged.
type Class uint8

// The classes.
const (
	Pages   Class = iota + 1 // of a relation: the WAL tells which of its pages it changes
	Maps                     // free-space maps: left where their pages are whole, for the server takes nothing in them for granted
	Renewed                  // the base's is laid wherever it differs, and replay brings it up to date: nothing tells whether it is right
	Kept                     // the cluster's own, as its configuration: the base's is laid only where it is missing
	Passing                  // made anew when the server starts, or not part of what is repaired: never looked at
)

// exact are directories in which nothing may be that the base backup does not have: replay makes it anew.
var exact = []string{"pg_xact", "pg_multixact", "pg_commit_ts", "pg_twophase"}

// passing are directories and files that the server makes anew, or that say how it goes on, and not what it holds.
var passing = []string{"pg_wal", "pg_replslot", "pg_stat", "pg_stat_tmp", "pg_notify", "pg_serial", "pg_snapshots", "pg_subtrans",
	"pg_dynshmem", "pg_logical", "pgsql_tmp", "backup_label", "backup_manifest", "tablespace_map", "postmaster.pid", "postmaster.opts",
	"recovery.signal", "standby.signal", "current_logfiles"}

// ControlFile is the one by which a directory is known; it is judged before anything else is.
const ControlFile = "global/pg_control"

// ClassOf tells how a file is judged, by its path relative to the data directory.
func ClassOf(name string) Class {
	if rel, ok := pg.ParseRelationFile(name); ok {
		switch rel.Fork {
		case "fsm":
			return Maps
		case "vm":
			return Renewed
		}
		return Pages
	}
	first, _, _ := strings.Cut(name, "/")
	switch base := path.Base(name); {
	case slices.Contains(exact, first), base == "pg_filenode.map", base == "PG_VERSION", name == "pg_logical/replorigin_checkpoint":
		return Renewed
	case slices.Contains(passing, first), name == ControlFile, base == "pg_internal.init", strings.HasPrefix(base, "pgsql_tmp"):
		return Passing
	}
	return Kept
}

// Exact tells whether nothing may be in a directory that the base backup does not have.
func Exact(dir string) bool {
	first, _, _ := strings.Cut(dir, "/")
	return slices.Contains(exact, first)
}

// Ground is what a cluster is judged by.
type Ground struct {
	Start, End pg.LSN      // of the WAL that is to be replayed
	Changed    *blocks.Set // the pages that it changes
	Gone       map[wal.RelationRef]bool
	// GoneDatabases are those that it drops.
	GoneDatabases map[uint32]bool
	// Checksums says that pages have them, in the base, too. Of others nothing tells whether they are whole, and so none is relied on
	// that the base does not have.
	Checksums bool
	// Strict says that none is in any case: a database that the WAL copies file by file is copied as its template was then.
	Strict bool
}

// forkNumbers are the numbers of forks that are judged by their pages (ForkNumber).
var forkNumbers = map[string]uint8{"": 0, "init": 3}

// Drops tells whether the WAL removes the relation of a file: whatever lies there, replay removes it.
func (g *Ground) Drops(name string) bool {
	ref, _, ok := wal.RelationOf(name)
	return ok && (g.Gone[ref] || g.GoneDatabases[ref.Database])
}

// Makes tells whether the WAL has pages of the relation of a file, so that it may be there where the base has none.
func (g *Ground) Makes(name string) bool {
	ref, rel, ok := wal.RelationOf(name)
	return ok && g.Changed.Knows(blocks.Fork{Relation: ref, Number: forkNumbers[rel.Fork]})
}

// MakesDatabase tells whether the WAL has anything of the database in whose directory a file is.
func (g *Ground) MakesDatabase(name string) bool {
	oid, err := strconv.ParseUint(path.Base(path.Dir(name)), 10, 32)
	return err == nil && g.Changed.Touches(uint32(oid))
}

// InitOf is the path of the file that tells of a relation's file that it is of an unlogged relation, whose pages no WAL tells of and
// which are emptied when the server recovers; "" for what is not of a relation, or is such a file itself.
func InitOf(name string) string {
	rel, ok := pg.ParseRelationFile(name)
	if !ok || rel.Fork == "init" {
		return ""
	}
	node, _, _ := strings.Cut(path.Base(name), ".")
	node, _, _ = strings.Cut(node, "_")
	return path.Join(path.Dir(name), node+"_init")
}

// Verdict is what is said of a page.
type Verdict uint8

// The verdicts.
const (
	Same  Verdict = iota // as the base has it
	Newer                // the WAL changes it, and it is whole
	Wrong
)

// page judges a page of a relation as it is on disk. base is what the base has of it, nil for nothing: then it must be empty. fault
// says what is wrong.
func (g *Ground) page(disk, base []byte, block uint32, changed bool) (v Verdict, fault string) {
	if base != nil && slices.Equal(disk, base) || base == nil && empty(disk) {
		return Same, ""
	}
	fault = string(pg.CheckPage(disk, block, g.Checksums))
	at := pg.PageLSN(disk)
	switch {
	case fault != "":
		return Wrong, fault
	case at > g.End:
		return Wrong, "it is of " + at.String() + ", which the WAL does not reach"
	case !g.Checksums:
		return Wrong, unsure
	case !changed:
		return Wrong, "it differs from the base, and no WAL changes it"
	case at < g.Start:
		return Wrong, "it is older than the base"
	case g.Strict:
		return Wrong, unsure
	}
	return Newer, ""
}

// unsure is said of what may be right.
const unsure = "it differs from the base, and nothing tells whether it is right"

func empty(page []byte) bool {
	for _, b := range page {
		if b != 0 {
			return false
		}
	}
	return true
}
