package wal

import "velvetrewind/core/pg"

// Records of the heap managers (access/heapam_xlog.h): the operation in bits 4 to 6.
const (
	heapOpMask    = 0x70
	heapInsert    = 0x00
	heapDelete    = 0x10
	heapUpdate    = 0x20
	heapHotUpdate = 0x40
	heap2Multi    = 0x50

	deleteIsSuper = 1 << 3 // XLH_DELETE_IS_SUPER: takes a speculative insertion back
)

// RowChange is what a record does to the rows of one relation.
type RowChange struct {
	Relation RelationRef
	Inserted int64 // negative where a speculative insertion is taken back
	Updated  int64
	Deleted  int64
}

// RowsOf tells which rows a heap record changes; ok is false for every other
// record, and for those that change no row's content (locks, pruning, visibility).
func RowsOf(r *Record) (c RowChange, ok bool, err error) {
	if (r.Manager != ManagerHeap && r.Manager != ManagerHeap2) || len(r.Blocks) == 0 {
		return c, false, nil
	}
	b := r.Blocks[0]
	c.Relation = RelationRef{Space: b.Space, Database: b.Database, Filenode: b.Filenode}
	op := r.Info & heapOpMask
	switch {
	case r.Manager == ManagerHeap2 && op == heap2Multi:
		f := fields{b: r.Main}
		f.skip(2) // flags and padding
		c.Inserted = int64(f.u16())
		if f.short {
			return c, false, damaged(r.Start, "a multi-insert record ends within its fields")
		}
	case r.Manager == ManagerHeap2:
		return c, false, nil
	case op == heapInsert:
		c.Inserted = 1
	case op == heapUpdate || op == heapHotUpdate:
		c.Updated = 1
	case op == heapDelete:
		f := fields{b: r.Main}
		f.skip(7) // xmax, offset number and infomask bits
		flags := f.u8()
		if f.short {
			return c, false, damaged(r.Start, "a delete record ends within its fields")
		}
		if flags&deleteIsSuper != 0 {
			c.Inserted = -1
		} else {
			c.Deleted = 1
		}
	default:
		return c, false, nil
	}
	return c, true, nil
}

// Created tells which relation file a storage record makes (xl_smgr_create); ok is
// false for every other record and for forks other than the main one.
func Created(r *Record) (rel RelationRef, ok bool) {
	const smgrCreate = 0x10
	if r.Manager != ManagerStorage || r.Info&0xf0 != smgrCreate {
		return rel, false
	}
	f := fields{b: r.Main}
	rel = RelationRef{Space: f.u32(), Database: f.u32(), Filenode: f.u32()}
	fork := f.u32()
	return rel, !f.short && fork == 0
}

// OldestRunning gives the oldest transaction that was still running when the server
// took stock (xl_running_xacts); ok is false for every other record.
func OldestRunning(r *Record) (xid pg.XID, ok bool) {
	const runningXacts = 0x10
	if r.Manager != ManagerStandby || r.Info&0xf0 != runningXacts {
		return 0, false
	}
	f := fields{b: r.Main}
	f.skip(16) // counts, overflow flag with padding, next transaction id
	xid = pg.XID(f.u32())
	return xid, !f.short
}
