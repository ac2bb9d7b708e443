package wal

import (
	"bytes"
	"time"

	"velvetrewind/core/pg"
)

// Records of the XLOG manager (catalog/pg_control.h).
const (
	xlogCheckpointShutdown = 0x00
	xlogCheckpointOnline   = 0x10
	xlogNoop               = 0x20
	xlogNextOID            = 0x30
	xlogSwitch             = 0x40 // the rest of the segment is unused
	xlogBackupEnd          = 0x50
	xlogParameterChange    = 0x60
	xlogRestorePoint       = 0x70
	xlogFPWChange          = 0x80
	xlogEndOfRecovery      = 0x90
	xlogHintImage          = 0xa0
	xlogImage              = 0xb0
	xlogOverwrite          = 0xd0
)

// Checkpoint is a checkpoint (CheckPoint).
type Checkpoint struct {
	Redo             pg.LSN
	Timeline         pg.Timeline
	PreviousTimeline pg.Timeline
	FullPageWrites   bool
	NextXID          pg.FullXID
	NextOID          uint32
	OldestXID        pg.XID
	Time             time.Time // to the second
	OldestActive     pg.XID    // 0 after a shutdown
	Shutdown         bool
}

// RestorePoint is a place in the WAL that somebody has named (xl_restore_point).
type RestorePoint struct {
	Time time.Time
	Name string
}

// LevelMinimal is the WALLevel of a server whose WAL cannot be replayed.
const LevelMinimal = 0

// ParameterChange tells the settings that replay depends on (xl_parameter_change).
type ParameterChange struct {
	MaxConnections, MaxWorkers, MaxWALSenders, MaxPrepared, MaxLocks, WALLevel uint32
	HintBitsLogged, CommitTimesKept                                            bool
}

// EndOfRecovery begins a timeline (xl_end_of_recovery).
type EndOfRecovery struct {
	Time                       time.Time
	Timeline, PreviousTimeline pg.Timeline
}

// Switch leaves the rest of a segment unused.
type Switch struct{}

// BackupEnd is the end of a base backup that began at Start.
type BackupEnd struct{ Start pg.LSN }

// NextOID reserves object ids.
type NextOID struct{ OID uint32 }

// FullPageWrites tells that the setting has changed.
type FullPageWrites struct{ On bool }

// PageImages is nothing but full-page images, of changes or of hint bits.
type PageImages struct{ Hint bool }

// Overwrite tells that the record at Lost was never finished (xl_overwrite_contrecord).
type Overwrite struct {
	Lost pg.LSN
	Time time.Time
}

func (Checkpoint) body()      {}
func (RestorePoint) body()    {}
func (ParameterChange) body() {}
func (EndOfRecovery) body()   {}
func (Switch) body()          {}
func (BackupEnd) body()       {}
func (NextOID) body()         {}
func (FullPageWrites) body()  {}
func (PageImages) body()      {}
func (Overwrite) body()       {}

func decodeXLOG(r *Record, f *fields) Body {
	switch r.op() {
	case xlogCheckpointShutdown, xlogCheckpointOnline:
		return decodeCheckpoint(f, r.op() == xlogCheckpointShutdown)
	case xlogNextOID:
		return NextOID{f.u32()}
	case xlogSwitch:
		return Switch{}
	case xlogBackupEnd:
		return BackupEnd{f.lsn()}
	case xlogParameterChange:
		p := ParameterChange{f.u32(), f.u32(), f.u32(), f.u32(), f.u32(), f.u32(), false, false}
		p.HintBitsLogged, p.CommitTimesKept = f.u8() != 0, f.u8() != 0
		return p
	case xlogRestorePoint:
		return decodeRestorePoint(f)
	case xlogFPWChange:
		return FullPageWrites{f.u8() != 0}
	case xlogEndOfRecovery:
		return EndOfRecovery{pg.Timestamp(int64(f.u64())), pg.Timeline(f.u32()), pg.Timeline(f.u32())}
	case xlogHintImage, xlogImage:
		return PageImages{r.op() == xlogHintImage}
	case xlogOverwrite:
		return Overwrite{f.lsn(), pg.Timestamp(int64(f.u64()))}
	}
	return nil
}

func decodeCheckpoint(f *fields, shutdown bool) Body {
	c := Checkpoint{Shutdown: shutdown, Redo: f.lsn(), Timeline: pg.Timeline(f.u32()), PreviousTimeline: pg.Timeline(f.u32())}
	c.FullPageWrites = f.u8() != 0
	f.skip(7) // padding, and from PostgreSQL 17 on wal_level
	c.NextXID, c.NextOID = pg.FullXID(f.u64()), f.u32()
	f.skip(8) // next multixact and its offset
	c.OldestXID = f.xid()
	f.skip(16) // oldest ids of databases and multixacts, padding
	c.Time = time.Unix(int64(f.u64()), 0).UTC()
	f.skip(8) // oldest and newest transaction with a commit time
	c.OldestActive = f.xid()
	return c
}

// restorePointName is the size of the name's field (MAXFNAMELEN).
const restorePointName = 64

func decodeRestorePoint(f *fields) Body {
	p := RestorePoint{Time: pg.Timestamp(int64(f.u64()))}
	if len(f.b) < restorePointName {
		f.short = true
		return nil
	}
	name, _, _ := bytes.Cut(f.b[:restorePointName], []byte{0})
	p.Name = string(name)
	return p
}
