package wal

import "velvetrewind/core/pg"

// Records of the standby manager (storage/standbydefs.h).
const (
	standbyLock        = 0x00
	standbyRunning     = 0x10
	standbyInvalidates = 0x20
)

// Lock is an exclusive lock that a transaction holds on a relation (xl_standby_lock).
type Lock struct {
	XID                pg.XID
	Database, Relation uint32
}

// Locks are exclusive locks, taken or still held.
type Locks []Lock

// RunningTransactions is the server's stock of transactions (xl_running_xacts).
type RunningTransactions struct {
	Running, Subxacts int
	Overflowed        bool // not all sub-transactions are listed
	NextXID           pg.XID
	OldestRunning     pg.XID
	LatestCompleted   pg.XID
	XIDs              []pg.XID
}

// StandbyInvalidations are cache invalidations outside of transactions (xl_invalidations).
type StandbyInvalidations struct {
	Database, Space uint32
	RelationCache   bool
	Messages        int
}

func (Locks) body()                {}
func (RunningTransactions) body()  {}
func (StandbyInvalidations) body() {}

func decodeStandby(r *Record, f *fields) Body {
	switch r.op() {
	case standbyLock:
		locks := make(Locks, f.count(12))
		for i := range locks {
			locks[i] = Lock{f.xid(), f.u32(), f.u32()}
		}
		return locks
	case standbyRunning:
		t := RunningTransactions{Running: int(f.u32()), Subxacts: int(f.u32()), Overflowed: f.u8() != 0}
		f.skip(3)
		t.NextXID, t.OldestRunning, t.LatestCompleted = f.xid(), f.xid(), f.xid()
		t.XIDs = f.xids(t.Running + t.Subxacts)
		return t
	case standbyInvalidates:
		v := StandbyInvalidations{Database: f.u32(), Space: f.u32(), RelationCache: f.u8() != 0}
		f.skip(3)
		v.Messages = f.count(invalidationSize)
		return v
	}
	return nil
}
