package wal

// Records of the database manager (commands/dbcommands_xlog.h). Before PostgreSQL
// 15 there is one way to create a database, by copying files, and DROP stands in
// the place of CREATE_WAL_LOG.
const (
	dbCreateFileCopy = 0x00
	dbCreateWALLog   = 0x10
	dbDrop           = 0x20
)

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

func decodeDatabase(r *Record, f *fields, version int) Body {
	op := r.op()
	if version < 15 && op == dbCreateWALLog {
		op = dbDrop
	}
	switch op {
	case dbCreateFileCopy:
		return DatabaseCreate{Database: f.u32(), Space: f.u32(), Template: f.u32(), FileCopy: true}
	case dbCreateWALLog:
		return DatabaseCreate{Database: f.u32(), Space: f.u32()}
	case dbDrop:
		return DatabaseDrop{Database: f.u32(), Spaces: f.oids(int(f.u32()))}
	}
	return nil
}
