package wal

// Records of the tablespace manager (commands/tablespace.h).
const (
	spaceCreate = 0x00
	spaceDrop   = 0x10
)

// TablespaceCreate makes a tablespace at a place.
type TablespaceCreate struct {
	Space    uint32
	Location string
}

// TablespaceDrop removes a tablespace.
type TablespaceDrop struct{ Space uint32 }

func (TablespaceCreate) body() {}
func (TablespaceDrop) body()   {}

func decodeTablespace(r *Record, f *fields) Body {
	switch r.op() {
	case spaceCreate:
		return TablespaceCreate{f.u32(), f.text()}
	case spaceDrop:
		return TablespaceDrop{f.u32()}
	}
	return nil
}
