package journal

import (
	"bytes"
	"encoding/binary"
	"strconv"
	"strings"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Named is a relation file that a transaction made, with what its new row in pg_class
// says of it. It is learned from the WAL itself, so that a table that lives for a
// moment still has its name.
type Named struct {
	File   wal.RelationRef
	OID    uint32 // of the relation; of the table that it is the new form of, if Copy
	Schema uint32 // oid of its schema
	Name   string // "" if Copy
	Part   Part   // Index tells nothing of the table that it belongs to
	Copy   bool   // the new form of a table that is rewritten
}

// Places of columns in a row of pg_class (catalog/pg_class.h), the same in all supported
// versions; that of relpersistence differs. None of them can be NULL.
const (
	classOID    = 0
	className   = 4
	classSchema = 68
	classFile   = 88
	classSpace  = 92
	nameSize    = 64
)

// transient begins the name of the table into which another is rewritten, by its oid.
const transient = "pg_temp_"

// decodeClass reads a row of pg_class that lies in the file of ref. ok is false if the
// relation has no file of its own that the WAL tells of.
func decodeClass(ref wal.RelationRef, row []byte, v *pg.Version) (n Named, ok bool) {
	persistence, kind := v.ClassPersistence, v.ClassPersistence+1
	if len(row) <= kind {
		return n, false
	}
	u32 := func(at int) uint32 { return binary.LittleEndian.Uint32(row[at:]) }
	n.File = wal.RelationRef{Space: u32(classSpace), Database: ref.Database, Filenode: u32(classFile)}
	if n.File.Space == 0 {
		n.File.Space = ref.Space
	}
	name, _, _ := bytes.Cut(row[className:className+nameSize], []byte{0})
	n.OID, n.Schema, n.Name = u32(classOID), u32(classSchema), string(name)
	switch row[kind] {
	case 'r', 'm':
	case 'p', 'f':
		n.File = ByOID(ref.Database, n.OID)
	case 'v':
		n.Part, n.File = View, ByObject(View, ref.Database, n.OID)
	case 't':
		n.Part = Toast
	case 'i':
		n.Part = Index
	case 'S':
		n.Part = Sequence
	default:
		n.Part = Other
	}
	if oid, is := strings.CutPrefix(n.Name, transient); is && n.Part == Main {
		if old, err := strconv.ParseUint(oid, 10, 32); err == nil {
			n.OID, n.Name, n.Copy = uint32(old), "", true
		}
	}
	return n, n.File.Filenode != 0 && row[persistence] != 't'
}

// decodeObject reads the beginning of a row of pg_proc or pg_namespace, which lies in the file of ref.
func decodeObject(ref wal.RelationRef, row []byte, _ *pg.Version) (n Named, ok bool) {
	if len(row) < classSchema+4 {
		return n, false
	}
	name, _, _ := bytes.Cut(row[className:className+nameSize], []byte{0})
	n = Named{OID: binary.LittleEndian.Uint32(row[classOID:]), Name: string(name), Part: Schema}
	if ref.Filenode == wal.CatalogFunctions {
		n.Part, n.Schema = Function, binary.LittleEndian.Uint32(row[classSchema:])
	}
	n.File = ByObject(n.Part, ref.Database, n.OID)
	return n, true
}

// Replacements pairs the files of a transaction that gives relations new files in their
// place and does nothing else to files: TRUNCATE and REINDEX. The server lists dropped
// files in the reverse order of that in which it made the new ones, which is not known where
// sub-transactions made some of them.
func (t *Transaction) Replacements() (pairs [][2]wal.RelationRef) {
	if len(t.Named) > 0 || len(t.Created) != len(t.Dropped) || t.mixed {
		return nil
	}
	for i, ref := range t.Created {
		pairs = append(pairs, [2]wal.RelationRef{t.Dropped[len(t.Dropped)-1-i], ref})
	}
	return pairs
}
