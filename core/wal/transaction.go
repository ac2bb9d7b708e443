package wal

import (
	"bytes"
	"encoding/binary"
	"time"

	"velvetrewind/core/pg"
)

// Records of the transaction manager (access/xact.h): the low four bits of Info are flags.
const (
	xactOpMask         = 0x70
	xactCommit         = 0x00
	xactPrepare        = 0x10
	xactAbort          = 0x20
	xactCommitPrepared = 0x30
	xactAbortPrepared  = 0x40

	xactHasInfo = 0x80

	xinfoDatabase     = 1 << 0
	xinfoSubxacts     = 1 << 1
	xinfoRelations    = 1 << 2
	xinfoInvalidation = 1 << 3
	xinfoTwoPhase     = 1 << 4
	xinfoOrigin       = 1 << 5
	xinfoGID          = 1 << 7
	xinfoDroppedStats = 1 << 8
)

// RelationRef names a relation's files (RelFileLocator).
type RelationRef struct{ Space, Database, Filenode uint32 }

// End is a record by which a transaction commits or aborts.
type End struct {
	XID       pg.XID // of the transaction that ends; for two-phase not the record's own
	Committed bool
	Time      time.Time // UTC, to the microsecond
	TwoPhase  bool      // it had been prepared
	Database  uint32    // 0 where the record does not say
	Subxacts  []pg.XID
	Dropped   []RelationRef // files that go with this end
	GID       string        // of a two-phase transaction, where the record carries it
}

// EndOf decodes a commit or abort record; ok is false for every other record.
// Source: ParseCommitRecord and ParseAbortRecord in xactdesc.c.
func EndOf(r *Record, version int) (end End, ok bool, err error) {
	if r.Manager != ManagerTransaction {
		return End{}, false, nil
	}
	op := r.Info & xactOpMask
	switch op {
	case xactCommit, xactCommitPrepared:
		end.Committed = true
	case xactAbort, xactAbortPrepared:
	default:
		return End{}, false, nil
	}
	end.XID = r.XID
	end.TwoPhase = op == xactCommitPrepared || op == xactAbortPrepared
	f := fields{b: r.Main}
	end.Time = pg.Timestamp(int64(f.u64()))
	var info uint32
	if r.Info&xactHasInfo != 0 {
		info = f.u32()
	}
	if info&xinfoDatabase != 0 {
		end.Database = f.u32()
		f.skip(4)
	}
	if info&xinfoSubxacts != 0 {
		for range f.count(4) {
			end.Subxacts = append(end.Subxacts, pg.XID(f.u32()))
		}
	}
	if info&xinfoRelations != 0 {
		for range f.count(12) {
			end.Dropped = append(end.Dropped, RelationRef{f.u32(), f.u32(), f.u32()})
		}
	}
	if info&xinfoDroppedStats != 0 && version >= 15 {
		f.skip(f.count(statsItem) * statsItem)
	}
	if end.Committed && info&xinfoInvalidation != 0 {
		f.skip(f.count(16) * 16)
	}
	if info&xinfoTwoPhase != 0 {
		end.XID = pg.XID(f.u32())
		if info&xinfoGID != 0 {
			end.GID = f.text()
		}
	}
	if f.short {
		return End{}, false, damaged(r.Start, "a commit or abort record ends within its fields")
	}
	return end, true, nil
}

// statsItem is the size of an xl_xact_stats_item in PostgreSQL 15 to 17: kind, database and object.
const statsItem = 12

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

// count reads how many items of the given size follow; never more than there are bytes for.
func (f *fields) count(size int) int {
	n := int(f.u32())
	if n > len(f.b)/size {
		f.b, f.short = nil, true
		return 0
	}
	return n
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
