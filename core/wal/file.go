package wal

import (
	"strconv"
	"strings"

	"velvetrewind/core/pg"
)

// The tablespaces that every cluster has (pg_tablespace.dat).
const (
	DefaultSpace = 1663
	GlobalSpace  = 1664
)

// RelationOf tells whose pages the file at a path relative to the data directory holds.
func RelationOf(name string) (r RelationRef, f pg.RelationFile, ok bool) {
	if f, ok = pg.ParseRelationFile(name); !ok {
		return r, f, false
	}
	r = RelationRef{Space: DefaultSpace, Database: f.Database, Filenode: f.Filenode}
	if f.Database == 0 {
		r.Space = GlobalSpace
	}
	if below, ok := strings.CutPrefix(name, "pg_tblspc/"); ok {
		oid, _, _ := strings.Cut(below, "/")
		n, err := strconv.ParseUint(oid, 10, 32)
		if err != nil {
			return r, f, false
		}
		r.Space = uint32(n)
	}
	return r, f, true
}
