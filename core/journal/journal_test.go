package journal

import (
	"encoding/binary"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

var (
	booking   = wal.RelationRef{Space: 1663, Database: 5, Filenode: 16385}
	passenger = wal.RelationRef{Space: 1663, Database: 5, Filenode: 16390}
	noon      = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
)

// log makes records one after the other, 64 bytes apart.
type log struct {
	at    pg.LSN
	clock time.Time // of ends; noon if it is not set
}

func (l *log) record(m wal.Manager, info uint8, xid pg.XID, main []byte, rels ...wal.RelationRef) *wal.Record {
	l.at += 64
	r := &wal.Record{Start: l.at, End: l.at + 64, Manager: m, Info: info, XID: xid, Main: main, Length: 60}
	for _, rel := range rels {
		r.Blocks = append(r.Blocks, wal.Block{Space: rel.Space, Database: rel.Database, Filenode: rel.Filenode})
	}
	return r
}

func (l *log) insert(xid pg.XID, rel wal.RelationRef) *wal.Record {
	return l.record(wal.ManagerHeap, 0x80, xid, make([]byte, 3), rel)
}
func (l *log) update(xid pg.XID, rel wal.RelationRef) *wal.Record {
	return l.record(wal.ManagerHeap, 0x40, xid, make([]byte, 14), rel)
}
func (l *log) remove(xid pg.XID, rel wal.RelationRef, flags byte) *wal.Record {
	return l.record(wal.ManagerHeap, 0x10, xid, []byte{0, 0, 0, 0, 0, 0, 0, flags}, rel)
}
func (l *log) multi(xid pg.XID, rel wal.RelationRef, n uint16) *wal.Record {
	return l.record(wal.ManagerHeap2, 0x50, xid, binary.LittleEndian.AppendUint16([]byte{0, 0}, n), rel)
}
func (l *log) create(xid pg.XID, rel wal.RelationRef) *wal.Record {
	var b []byte
	for _, v := range []uint32{rel.Space, rel.Database, rel.Filenode, 0} {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return l.record(wal.ManagerStorage, 0x10, xid, b)
}
func (l *log) running(oldest pg.XID) *wal.Record {
	b := make([]byte, 12)
	for _, v := range []uint32{uint32(oldest) + 20, uint32(oldest), uint32(oldest)} { // next, oldest running, latest completed
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return l.record(wal.ManagerStandby, 0x10, 0, b)
}

// prepare makes the first phase of a two-phase commit.
func (l *log) prepare(xid pg.XID, gid string) *wal.Record {
	b := make([]byte, 72)
	binary.LittleEndian.PutUint32(b[8:], uint32(xid))
	binary.LittleEndian.PutUint16(b[54:], uint16(len(gid)+1))
	b = append(b, gid...)
	return l.record(wal.ManagerTransaction, 0x10, xid, append(b, make([]byte, 8-len(gid)%8)...))
}

// checkpoint makes a checkpoint that knows the next full transaction id.
func (l *log) checkpoint(info uint8, next pg.FullXID) *wal.Record {
	b := make([]byte, 88)
	binary.LittleEndian.PutUint64(b[24:], uint64(next))
	return l.record(wal.ManagerXLOG, info, 0, b)
}

// mark makes a named restore point.
func (l *log) mark(name string) *wal.Record {
	b := binary.LittleEndian.AppendUint64(nil, uint64(pg.ToTimestamp(noon)))
	return l.record(wal.ManagerXLOG, 0x70, 0, append(append(b, name...), make([]byte, 64-len(name))...))
}

// end makes a commit (op 0x00), an abort (0x20), or those of a prepared one (0x30, 0x40).
func (l *log) end(op uint8, xid pg.XID, subs []pg.XID, dropped ...wal.RelationRef) *wal.Record {
	at := l.clock
	if at.IsZero() {
		at = noon
	}
	b := binary.LittleEndian.AppendUint64(nil, uint64(pg.ToTimestamp(at)))
	info := uint32(0)
	var rest []byte
	if len(subs) > 0 {
		info |= 1 << 1
		rest = binary.LittleEndian.AppendUint32(rest, uint32(len(subs)))
		for _, s := range subs {
			rest = binary.LittleEndian.AppendUint32(rest, uint32(s))
		}
	}
	if len(dropped) > 0 {
		info |= 1 << 2
		rest = binary.LittleEndian.AppendUint32(rest, uint32(len(dropped)))
		for _, d := range dropped {
			for _, v := range []uint32{d.Space, d.Database, d.Filenode} {
				rest = binary.LittleEndian.AppendUint32(rest, v)
			}
		}
	}
	own := xid
	if op >= 0x30 {
		info |= 1 << 4
		rest = binary.LittleEndian.AppendUint32(rest, uint32(xid))
		own = 0
	}
	b = append(binary.LittleEndian.AppendUint32(b, info), rest...)
	return l.record(wal.ManagerTransaction, op|0x80, own, b)
}

// opened lists what a builder has open.
func opened(b *Builder) (xids []pg.XID) {
	for _, o := range b.State().Open {
		xids = append(xids, o.XID)
	}
	return xids
}

// kept copies what is good only until the next record.
func kept(tx *Transaction) *Transaction {
	own := *tx
	own.Changes = slices.Clone(tx.Changes)
	return &own
}

// see shows the records and returns the transactions that they end.
func see(t require.TestingT, b *Builder, records ...*wal.Record) []*Transaction {
	var ended []*Transaction
	for _, r := range records {
		tx, err := b.See(r, pg.Major(15))
		require.NoError(t, err)
		if tx != nil {
			ended = append(ended, kept(tx))
		}
	}
	return ended
}

func TestATransactionIsGathered(t *testing.T) {
	var l log
	b := NewBuilder(State{})
	rewritten := wal.RelationRef{Space: 1663, Database: 5, Filenode: 17000}
	ended := see(t, b, l.insert(10, booking), l.insert(11, passenger), l.multi(10, booking, 48), l.update(10, booking),
		l.remove(10, passenger, 0),
		l.create(10, rewritten), l.record(wal.ManagerHeap, 0x60, 10, nil, booking), l.record(wal.Manager(11), 0, 10, nil, booking),
		l.end(0x00, 10, nil, booking))
	require.Len(t, ended, 1)
	assert.Equal(t, &Transaction{
		XID: 10, Committed: true, Partial: true, Database: 5, First: 64, End: 9 * 64, Time: noon, Bytes: 8 * 60,
		Changes: []Change{{booking, 49, 1, 0}, {passenger, 0, 0, 1}},
		Created: []wal.RelationRef{rewritten}, Dropped: []wal.RelationRef{booking},
	}, ended[0])
	assert.Equal(t, []pg.XID{11}, opened(b))
	ended = see(t, b, l.end(0x20, 11, nil))
	require.Len(t, ended, 1)
	assert.False(t, ended[0].Committed)
	assert.Empty(t, opened(b))
}

func TestSubTransactions(t *testing.T) {
	var l log
	b := NewBuilder(State{})
	ended := see(t, b, l.insert(12, booking), l.insert(11, booking), l.insert(10, booking), l.end(0x20, 11, nil), l.insert(10, booking),
		l.end(0x00, 10, []pg.XID{12}))
	require.Len(t, ended, 2)
	assert.Equal(t, pg.FullXID(11), ended[0].XID)
	assert.Equal(t, []Change{{booking, 3, 0, 0}}, ended[1].Changes, "what was rolled back to a savepoint is not counted")
	assert.Equal(t, pg.LSN(64), ended[1].First, "of any of its sub-transactions")
}

func TestTwoPhaseAndTakenBackRows(t *testing.T) {
	var l log
	b := NewBuilder(State{})
	const super = 1 << 3
	ended := see(t, b, l.insert(10, booking), l.prepare(10, "tide"), l.insert(20, passenger), l.running(20),
		l.insert(20, booking), l.remove(20, booking, super), l.end(0x00, 20, nil), l.end(0x30, 10, nil))
	require.Len(t, ended, 2)
	assert.Equal(t, []Change{{passenger, 1, 0, 0}}, ended[0].Changes, "a speculative insertion that was taken back is none")
	assert.True(t, ended[1].TwoPhase)
	assert.Equal(t, "tide", ended[1].GID)
	assert.Equal(t, []Change{{booking, 1, 0, 0}}, ended[1].Changes)
}

func TestWhatACrashLeftIsForgotten(t *testing.T) {
	var l log
	b := NewBuilder(State{})
	see(t, b, l.insert(0xfffffff0, booking), l.insert(10, booking), l.running(10))
	assert.Equal(t, []pg.XID{10}, opened(b), "in the circular order of ids")
	_, err := b.See(l.record(wal.ManagerHeap, 0x10, 10, []byte{1}, booking), pg.Major(15))
	assert.ErrorContains(t, err, "ends within its fields")
}

// TestHugeTransactions takes one of 100,000 sub-transactions that writes to 50,000 relations, and
// one that makes and drops as many: each is told whole, in a time that grows with it and not with
// its square, which would take minutes.
func TestHugeTransactions(t *testing.T) {
	const subs, files = 100_000, 50_000
	names := func(ref wal.RelationRef) (Name, bool) {
		return Name{OID: ref.Filenode, Database: "ferries", Schema: "public", Table: "leg"}, true
	}
	ref := func(n int) wal.RelationRef {
		return wal.RelationRef{Space: 1663, Database: 5, Filenode: uint32(20_000 + n)}
	}
	var l log
	r := NewRecorder(pg.Segment{Timeline: 1, Number: 1}, pg.DefaultSegmentSize, State{})
	see := func(rec *wal.Record) *Transaction {
		tx, err := r.See(rec, pg.Major(15))
		require.NoError(t, err)
		return tx
	}
	var ids []pg.XID
	for n := range subs {
		ids = append(ids, pg.XID(1001+n))
		see(l.insert(ids[n], ref(n%files)))
		see(l.remove(ids[n], ref((n*7)%files), 0))
	}
	tx := see(l.end(0x00, 1000, ids))
	require.Len(t, tx.Changes, files)
	require.Len(t, tx.Subxacts, subs)
	var dropped []wal.RelationRef
	for n := range files {
		see(l.create(900_000, ref(n)))
		dropped = append(dropped, ref(n))
	}
	tx = see(l.end(0x00, 900_000, nil, dropped...))
	require.Len(t, tx.Created, files)
	require.Len(t, tx.Dropped, files)
	s, err := r.Segment(l.at, names)
	require.NoError(t, err)
	require.EqualValues(t, 2, s.Commits)
	again, err := DecodeIndex(s.Encode())
	require.NoError(t, err)
	require.EqualValues(t, subs, again.Most[Insert])
	require.Len(t, again.Tables, 50_000)
}
