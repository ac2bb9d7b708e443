package wal

import "velvetrewind/core/pg"

// Records of the second heap manager (access/heapam_xlog.h).
const (
	heap2Rewrite     = 0x00
	heap2Prune       = 0x10
	heap2Vacuum      = 0x20
	heap2Freeze      = 0x30
	heap2Visible     = 0x40
	heap2Multi       = 0x50
	heap2LockUpdated = 0x60
	heap2NewCID      = 0x70
)

// HeapMultiInsert puts many rows on one page.
type HeapMultiInsert struct {
	Flags uint8
	Rows  int
}

// HeapPrune takes dead rows off a page; nobody who still sees rows up to Horizon
// may be reading it. Redirected and Dead are 0 where the record is of the unified form.
type HeapPrune struct {
	Horizon          pg.XID
	Redirected, Dead int
}

// HeapVacuum frees the places of dead rows.
type HeapVacuum struct{ Unused int }

// HeapFreeze freezes old rows.
type HeapFreeze struct {
	Horizon pg.XID
	Rows    int
}

// HeapVisible marks a page as visible to all.
type HeapVisible struct {
	Horizon pg.XID
	Flags   uint8
}

// HeapRewrite is a piece of the mapping that logical decoding needs of a rewritten catalog.
type HeapRewrite struct {
	XID                pg.XID
	Database, Relation uint32
}

// HeapNewCID tells the command ids of a catalog row, for logical decoding.
type HeapNewCID struct {
	Top      pg.XID
	Relation RelationRef
}

func (HeapMultiInsert) body() {}
func (HeapPrune) body()       {}
func (HeapVacuum) body()      {}
func (HeapFreeze) body()      {}
func (HeapVisible) body()     {}
func (HeapRewrite) body()     {}
func (HeapNewCID) body()      {}

func decodeHeap2(r *Record, f *fields, v *pg.Version) Body {
	switch op := r.Info & heapOpMask; {
	case op == heap2Rewrite:
		v := HeapRewrite{XID: f.xid(), Database: f.u32(), Relation: f.u32()}
		return v
	case op == heap2Visible:
		return HeapVisible{f.xid(), f.u8()}
	case op == heap2Multi:
		m := HeapMultiInsert{Flags: f.u8()}
		f.skip(1)
		m.Rows = int(f.u16())
		return m
	case op == heap2LockUpdated:
		return HeapLock{f.xid(), f.u16(), f.u8(), f.u8()}
	case op == heap2NewCID:
		v := HeapNewCID{Top: f.xid()}
		f.skip(12) // command ids
		v.Relation = f.relation()
		return v
	case v.UnifiedPrune:
		return decodeUnifiedPrune(f)
	case op == heap2Prune:
		return HeapPrune{f.xid(), int(f.u16()), int(f.u16())}
	case op == heap2Vacuum:
		return HeapVacuum{int(f.u16())}
	case op == heap2Freeze:
		return HeapFreeze{f.xid(), int(f.u16())}
	}
	return nil
}

// decodeUnifiedPrune reads the one record that prunes, vacuums and freezes (xl_heap_prune).
func decodeUnifiedPrune(f *fields) Body {
	const hasHorizon = 1 << 3
	f.skip(1) // padding
	var p HeapPrune
	if f.u8()&hasHorizon != 0 {
		p.Horizon = f.xid()
	}
	return p
}
