// Package partial says which relation files a partial copy lacks: one that holds some tables of a cluster, and of the others nothing
// but what the catalogs say.
//
// Invariant: a file is lacking only where everything that it was ever known as is part of a table that nobody asked for. What is
// not known, the server's own catalogs, and sequences are there. Whoever makes the copy looks whether it has what was asked for.
package partial

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"sort"
	"strings"

	"velvetrewind/core/journal"
	"velvetrewind/core/wal"
)

// Spec is what a partial copy holds, beside the catalogs.
type Spec struct {
	Database string   `json:"database"`
	Tables   []string `json:"tables"` // as they were called, with their schemas, in order
	OIDs     []uint32 `json:"oids"`   // of the tables
	Rescue   bool     `json:"rescue"` // they are those that the first transaction after the copy touched
}

// Add adds a table, once.
func (s *Spec) Add(n journal.Name) {
	if slices.Contains(s.OIDs, n.OID) {
		return
	}
	s.OIDs, s.Tables = append(s.OIDs, n.OID), append(s.Tables, journal.Table{Schema: n.Schema, Name: n.Table}.String())
	slices.Sort(s.Tables)
	s.Tables = slices.Compact(s.Tables) // several of one name, made and dropped
}

// String names what the copy holds.
func (s *Spec) String() string {
	if len(s.Tables) == 0 {
		return "the catalogs of database " + s.Database
	}
	return strings.Join(s.Tables, ", ") + " of database " + s.Database + ", and the catalogs"
}

// Needs tells whether a file with a name is part of one of the tables.
func (s *Spec) Needs(n journal.Name) bool {
	return n.Database == s.Database && slices.Contains(s.OIDs, n.OID)
}

// Those of a cluster's first relations and tablespaces that are its users' have oids from here on (FirstNormalObjectId).
const firstUsers = 16384

// Spares tells whether a copy can do without a file, by everything that it was known as.
func (s *Spec) Spares(ref wal.RelationRef, names []journal.Name) bool {
	if len(names) == 0 || ref.Filenode < firstUsers || ref.Database == 0 || ref.Space != wal.DefaultSpace && ref.Space < firstUsers {
		return false
	}
	for _, n := range names {
		if n.System() || s.Needs(n) || n.Part != journal.Main && n.Part != journal.Toast && n.Part != journal.Index {
			return false
		}
	}
	return true
}

// Lacks is the files that a copy lacks, as they are written down: ordered, 12 bytes each.
type Lacks []byte

const each = 12

// Of writes down which files are lacking.
func Of(files []wal.RelationRef) Lacks {
	slices.SortFunc(files, func(a, b wal.RelationRef) int {
		return cmp.Or(cmp.Compare(a.Space, b.Space), cmp.Compare(a.Database, b.Database), cmp.Compare(a.Filenode, b.Filenode))
	})
	l := make(Lacks, 0, each*len(files))
	for _, f := range slices.Compact(files) {
		l = append(l, encode(f)...)
	}
	return l
}

func encode(f wal.RelationRef) []byte {
	b := make([]byte, 0, each)
	for _, n := range []uint32{f.Space, f.Database, f.Filenode} {
		b = binary.BigEndian.AppendUint32(b, n)
	}
	return b
}

// Read takes over what was written down.
func Read(b []byte) (Lacks, error) {
	if len(b)%each != 0 {
		return nil, fmt.Errorf("the list of files that are lacking has %d bytes, which is no multiple of %d", len(b), each)
	}
	return b, nil
}

// Len is how many files are lacking.
func (l Lacks) Len() int { return len(l) / each }

// Has tells whether the files of a relation are lacking.
func (l Lacks) Has(f wal.RelationRef) bool {
	want := encode(f)
	at := each * sort.Search(l.Len(), func(i int) bool { return bytes.Compare(l[i*each:(i+1)*each], want) >= 0 })
	return at < len(l) && bytes.Equal(l[at:at+each], want)
}

// HasFile tells whether a file is lacking, by its path relative to the data directory.
func (l Lacks) HasFile(path string) bool {
	f, _, ok := wal.RelationOf(path)
	return ok && l.Has(f)
}
