package wal

import "velvetrewind/core/pg"

// Records of the heap manager (access/heapam_xlog.h): the operation in bits 4 to 6.
const (
	heapOpMask    = 0x70
	heapInsert    = 0x00
	heapDelete    = 0x10
	heapUpdate    = 0x20
	heapTruncate  = 0x30
	heapHotUpdate = 0x40
	heapConfirm   = 0x50
	heapLock      = 0x60
	heapInplace   = 0x70

	deleteIsSuper = 1 << 3 // XLH_DELETE_IS_SUPER: takes a speculative insertion back
	deleteIsMove  = 1 << 4 // XLH_DELETE_IS_PARTITION_MOVE: an UPDATE moves the row to another partition

	truncateCascade  = 1 << 0
	truncateRestarts = 1 << 1
)

// HeapInsert puts a row at a place of a page.
type HeapInsert struct {
	Offset uint16
	Flags  uint8
}

// HeapDelete ends a row.
type HeapDelete struct {
	XMax     pg.XID
	Offset   uint16
	Infobits uint8
	Flags    uint8
}

// HeapUpdate replaces a row; with Hot the indexes need not know.
type HeapUpdate struct {
	OldXMax     pg.XID
	OldOffset   uint16
	OldInfobits uint8
	Flags       uint8
	NewXMax     pg.XID
	NewOffset   uint16
	Hot         bool
}

// HeapTruncate names the tables of a TRUNCATE, by oid. The server writes it only
// with wal_level=logical, and only of tables that are replicated logically.
type HeapTruncate struct {
	Database           uint32
	Cascade, Restarted bool // Restarted: their sequences too
	Relations          []uint32
}

// HeapLock locks a row.
type HeapLock struct {
	XMax     pg.XID
	Offset   uint16
	Infobits uint8
	Flags    uint8
}

// HeapPlace is a record that only names a place of a page: a speculative insertion
// that is confirmed, or a row overwritten in place.
type HeapPlace struct{ Offset uint16 }

func (HeapInsert) body()   {}
func (HeapDelete) body()   {}
func (HeapUpdate) body()   {}
func (HeapTruncate) body() {}
func (HeapLock) body()     {}
func (HeapPlace) body()    {}

func decodeHeap(r *Record, f *fields) Body {
	switch r.Info & heapOpMask {
	case heapInsert:
		return HeapInsert{f.u16(), f.u8()}
	case heapDelete:
		return HeapDelete{f.xid(), f.u16(), f.u8(), f.u8()}
	case heapUpdate, heapHotUpdate:
		return HeapUpdate{f.xid(), f.u16(), f.u8(), f.u8(), f.xid(), f.u16(), r.Info&heapOpMask == heapHotUpdate}
	case heapTruncate:
		t := HeapTruncate{Database: f.u32()}
		n := int(f.u32())
		flags := f.u8()
		f.skip(3)
		t.Cascade, t.Restarted = flags&truncateCascade != 0, flags&truncateRestarts != 0
		t.Relations = f.oids(n)
		return t
	case heapLock:
		return HeapLock{f.xid(), f.u16(), f.u8(), f.u8()}
	case heapConfirm, heapInplace:
		return HeapPlace{f.u16()}
	}
	return nil
}

// RowChange is what a record does to the rows of one relation.
type RowChange struct {
	Relation RelationRef
	Inserted int64 // negative where a speculative insertion is taken back
	Updated  int64
	Deleted  int64
}

// RowsOf tells which rows a heap record changes; ok is false for every other
// record, and for those that change no row's content (locks, pruning, visibility).
// It is Decode for the one question that is asked of every record. A row that an UPDATE moves to another partition is an
// update of the one that it leaves, and an insert into the one that it enters.
func RowsOf(r *Record) (c RowChange, ok bool, err error) {
	if (r.Manager != ManagerHeap && r.Manager != ManagerHeap2) || len(r.Blocks) == 0 {
		return c, false, nil
	}
	c.Relation = r.Blocks[0].Relation()
	op, f := r.Info&heapOpMask, fields{b: r.Main}
	switch {
	case r.Manager == ManagerHeap2 && op == heap2Multi:
		f.skip(2) // flags and padding
		c.Inserted = int64(f.u16())
	case r.Manager == ManagerHeap2:
		return c, false, nil
	case op == heapInsert:
		c.Inserted = 1
	case op == heapUpdate || op == heapHotUpdate:
		c.Updated = 1
	case op == heapDelete:
		f.skip(7) // xmax, offset number and infomask bits
		switch flags := f.u8(); {
		case flags&deleteIsSuper != 0:
			c.Inserted = -1
		case flags&deleteIsMove != 0:
			c.Updated = 1
		default:
			c.Deleted = 1
		}
	default:
		return c, false, nil
	}
	if f.short {
		return c, false, damaged(r.Start, "a record of changed rows ends within its fields")
	}
	return c, true, nil
}
