package wal

// MapUpdate changes which files hold the system catalogs that have no fixed one
// (xl_relmap_update): catalog oid to filenode.
type MapUpdate struct {
	Database, Space uint32
	Files           map[uint32]uint32
}

func (MapUpdate) body() {}

// relationMapMagic begins a RelMapFile (RELMAPPER_FILEMAGIC).
const relationMapMagic = 0x592717

func decodeRelationMap(r *Record, f *fields) Body {
	if r.op() != 0 {
		return nil
	}
	m := MapUpdate{Database: f.u32(), Space: f.u32(), Files: make(map[uint32]uint32)}
	f.skip(4) // length
	if f.u32() != relationMapMagic {
		return m
	}
	for range f.count(8) {
		oid := f.u32()
		m.Files[oid] = f.u32()
	}
	return m
}
