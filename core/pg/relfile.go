package pg

import (
	"path"
	"strconv"
	"strings"
)

// RelationFile is what the path of a file says, when the file holds a relation's pages.
type RelationFile struct {
	Database uint32 // 0 for the shared relations in global/
	Filenode uint32
	Fork     string // "", "fsm", "vm" or "init"
	Part     uint32 // which 1 GiB file of the relation: the number after the dot
}

// FirstBlock is the number of the file's first page within its relation.
func (f RelationFile) FirstBlock() uint32 { return f.Part * BlocksPerFile }

// ParseRelationFile reads a path relative to the data directory: "base/5/1259",
// "base/5/16385.1", "global/1262_fsm", "pg_tblspc/16400/PG_15_202209061/5/16401".
// ok is false for every other file, also for temporary relations (t3_16385),
// which are never backed up.
func ParseRelationFile(name string) (f RelationFile, ok bool) {
	dirs := strings.Split(path.Dir(name), "/")
	switch {
	case len(dirs) == 1 && dirs[0] == "global":
	case len(dirs) == 2 && dirs[0] == "base":
		if f.Database, ok = parseOID(dirs[1]); !ok {
			return f, false
		}
	case len(dirs) == 4 && dirs[0] == "pg_tblspc" && strings.HasPrefix(dirs[2], "PG_"):
		if f.Database, ok = parseOID(dirs[3]); !ok {
			return f, false
		}
	default:
		return f, false
	}
	node, part, split := strings.Cut(path.Base(name), ".")
	if split {
		if f.Part, ok = parseOID(part); !ok {
			return f, false
		}
	}
	node, f.Fork, split = strings.Cut(node, "_")
	if split && f.Fork != "fsm" && f.Fork != "vm" && f.Fork != "init" {
		return f, false
	}
	f.Filenode, ok = parseOID(node)
	return f, ok
}

func parseOID(s string) (uint32, bool) {
	v, err := strconv.ParseUint(s, 10, 32)
	return uint32(v), err == nil && v > 0 && s[0] != '+' && s[0] != '0'
}
