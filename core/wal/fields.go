package wal

import (
	"bytes"
	"encoding/binary"

	"velvetrewind/core/pg"
)

// fields reads a record's data from the front; once it is too short, everything is zero.
type fields struct {
	b     []byte
	short bool
}

func (f *fields) skip(n int) {
	if n < 0 || n > len(f.b) {
		f.b, f.short = nil, true
		return
	}
	f.b = f.b[n:]
}

func (f *fields) u8() uint8 {
	if len(f.b) < 1 {
		f.short = true
		return 0
	}
	v := f.b[0]
	f.b = f.b[1:]
	return v
}

func (f *fields) u16() uint16 {
	if len(f.b) < 2 {
		f.b, f.short = nil, true
		return 0
	}
	v := binary.LittleEndian.Uint16(f.b)
	f.b = f.b[2:]
	return v
}

func (f *fields) u32() uint32 {
	if len(f.b) < 4 {
		f.b, f.short = nil, true
		return 0
	}
	v := binary.LittleEndian.Uint32(f.b)
	f.b = f.b[4:]
	return v
}

func (f *fields) u64() uint64 {
	low := uint64(f.u32())
	return low | uint64(f.u32())<<32
}

func (f *fields) xid() pg.XID { return pg.XID(f.u32()) }

func (f *fields) lsn() pg.LSN { return pg.LSN(f.u64()) }

func (f *fields) relation() RelationRef { return RelationRef{f.u32(), f.u32(), f.u32()} }

// count reads how many items of the given size follow; never more than there are bytes for.
func (f *fields) count(size int) int {
	return f.bounded(int(f.u32()), size)
}

func (f *fields) bounded(n, size int) int {
	if n < 0 || n > len(f.b)/size {
		f.b, f.short = nil, true
		return 0
	}
	return n
}

func (f *fields) xids(n int) []pg.XID {
	n = f.bounded(n, 4)
	list := make([]pg.XID, n)
	for i := range list {
		list[i] = f.xid()
	}
	return list
}

func (f *fields) oids(n int) []uint32 {
	n = f.bounded(n, 4)
	list := make([]uint32, n)
	for i := range list {
		list[i] = f.u32()
	}
	return list
}

func (f *fields) text() string {
	end := bytes.IndexByte(f.b, 0)
	if end < 0 {
		f.b, f.short = nil, true
		return ""
	}
	s := string(f.b[:end])
	f.b = f.b[end+1:]
	return s
}
