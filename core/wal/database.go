package wal

import "velvetrewind/core/pg"

// Records of the database manager (commands/dbcommands_xlog.h). A database is created by
// copying files (kind 0) or, in versions that know it, page by page.
const dbCreateFileCopy = 0x00

// DatabaseCreate makes a database's directory. With FileCopy its files are copied
// from Template without a record for each page.
type DatabaseCreate struct {
	Database, Space uint32
	Template        uint32 // 0 unless FileCopy
	FileCopy        bool
}

// DatabaseDrop removes a database's directories in the given tablespaces.
type DatabaseDrop struct {
	Database uint32
	Spaces   []uint32
}

func (DatabaseCreate) body() {}
func (DatabaseDrop) body()   {}

func decodeDatabase(r *Record, f *fields, v *pg.Version) Body {
	switch r.op() {
	case dbCreateFileCopy:
		return DatabaseCreate{Database: f.u32(), Space: f.u32(), Template: f.u32(), FileCopy: true}
	case v.DatabaseCreateLogged:
		return DatabaseCreate{Database: f.u32(), Space: f.u32()}
	case v.DatabaseDrop:
		return DatabaseDrop{Database: f.u32(), Spaces: f.oids(int(f.u32()))}
	}
	return nil
}
