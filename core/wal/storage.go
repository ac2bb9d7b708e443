package wal

// Records of the storage manager (catalog/storage_xlog.h).
const (
	smgrCreate   = 0x10
	smgrTruncate = 0x20
)

// FileCreate makes a relation's fork (xl_smgr_create).
type FileCreate struct {
	Relation RelationRef
	Fork     uint8
}

// FileTruncate cuts a relation to Blocks pages (xl_smgr_truncate). Forks says which
// forks go with it: bit 0 main, bit 1 visibility map, bit 2 free-space map.
type FileTruncate struct {
	Relation RelationRef
	Blocks   uint32
	Forks    uint8
}

func (FileCreate) body()   {}
func (FileTruncate) body() {}

func decodeStorage(r *Record, f *fields) Body {
	switch r.op() {
	case smgrCreate:
		return FileCreate{f.relation(), uint8(f.u32())}
	case smgrTruncate:
		blocks := f.u32()
		return FileTruncate{f.relation(), blocks, uint8(f.u32())}
	}
	return nil
}
