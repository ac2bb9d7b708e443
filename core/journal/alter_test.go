package journal

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// locks makes a record of exclusive locks; that of a stock has no id of its own.
func (l *log) locks(xid pg.XID, list ...wal.Lock) *wal.Record {
	b := binary.LittleEndian.AppendUint32(nil, uint32(len(list)))
	for _, k := range list {
		for _, v := range []uint32{uint32(k.XID), k.Database, k.Relation} {
			b = binary.LittleEndian.AppendUint32(b, v)
		}
	}
	return l.record(wal.ManagerStandby, 0x00, xid, b)
}

// altering makes a commit of database 5 that says of relations that they are something else.
func (l *log) altering(xid pg.XID, subs []pg.XID, oids ...uint32) *wal.Record {
	r := l.end(0, xid, subs)
	head := binary.LittleEndian.AppendUint32(r.Main[:8:8], binary.LittleEndian.Uint32(r.Main[8:])|1<<0|1<<3)
	head = append(head, 5, 0, 0, 0, 0, 0, 0, 0)
	b := append(head, r.Main[12:]...)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(oids)+2))
	message := func(kind int8, oid uint32) {
		for _, v := range []uint32{uint32(uint8(kind)), 5, oid, 0} {
			b = binary.LittleEndian.AppendUint32(b, v)
		}
	}
	message(7, 16385) // of a cache of catalog rows
	message(-2, 0)    // of all relations
	for _, oid := range oids {
		message(-2, oid)
	}
	r.Main = b
	return r
}

// TestAlteredTables tells by locks, invalidations and catalogs what was altered; of partitioned tables, which have no file,
// also what was dropped.
func TestAlteredTables(t *testing.T) {
	catalog := func(name string, file uint32) (wal.RelationRef, Name) {
		return wal.RelationRef{Space: 1663, Database: 5, Filenode: file}, Name{OID: file, Database: "s", Schema: "pg_catalog", Table: name}
	}
	called := map[wal.RelationRef]Name{}
	class, n := catalog("pg_class", 1259)
	called[class] = n
	attribute, n := catalog("pg_attribute", 1249)
	called[attribute] = n
	constraint, n := catalog("pg_constraint", 2606)
	called[constraint] = n
	vessel := Name{OID: 17000, Database: "s", Schema: "public", Table: "vessel"}
	file := wal.RelationRef{Space: 1663, Database: 5, Filenode: 17001}
	called[file], called[ByOID(5, 17000)] = vessel, vessel
	season := Name{OID: 18000, Database: "s", Schema: "public", Table: "season"} // is partitioned
	called[ByOID(5, 18000)] = season
	lock := func(l *log, xid pg.XID, oids ...uint32) *wal.Record {
		var list []wal.Lock
		for _, oid := range oids {
			list = append(list, wal.Lock{XID: xid, Database: 5, Relation: oid})
		}
		return l.locks(xid, list...)
	}
	drop := func(l *log, xid pg.XID, name string) *wal.Record {
		r := l.update(xid, attribute)
		r.Blocks[0].Data = []byte("xx........pg.dropped.3........")
		return r
	}
	for what, c := range map[string]struct {
		make  func(*log) []*wal.Record
		kind  Operation // none if < 0
		table string
		words []string
	}{
		"a column dropped": {func(l *log) []*wal.Record {
			return []*wal.Record{lock(l, 10, 17000), drop(l, 10, "note"), l.update(10, class), l.altering(10, nil, 17000)}
		}, Alter, "vessel", []string{"a column dropped"}},
		"two columns and a check": {func(l *log) []*wal.Record {
			return []*wal.Record{lock(l, 10, 17000, 17000), l.multi(10, attribute, 2), l.insert(10, constraint), l.altering(10, nil, 17000)}
		}, Alter, "vessel", []string{"2 columns added", "a constraint added"}},
		"a column added, with what a rewrite makes for itself": {func(l *log) []*wal.Record {
			return []*wal.Record{lock(l, 10, 17000), l.multi(10, attribute, 3), l.remove(10, attribute, 0), l.remove(10, attribute, 0),
				l.altering(10, nil, 17000)}
		}, Alter, "vessel", []string{"a column added"}},
		"by a sub-transaction": {func(l *log) []*wal.Record {
			return []*wal.Record{l.insert(10, booking), lock(l, 12, 17000), l.update(12, class), l.altering(10, []pg.XID{12}, 17000)}
		}, Alter, "vessel", []string{"its name, owner or storage changed"}},
		"locked at a stock of transactions": {func(l *log) []*wal.Record {
			return []*wal.Record{l.update(10, class), l.locks(0, wal.Lock{XID: 10, Database: 5, Relation: 17000}), l.altering(10, nil,
				17000)}
		}, Alter, "vessel", nil},
		"only locked": {func(l *log) []*wal.Record {
			return []*wal.Record{lock(l, 10, 17000), l.update(10, class), l.altering(10, nil)}
		}, -1, "vessel", nil},
		"only no longer known": {func(l *log) []*wal.Record { return []*wal.Record{l.update(10, class), l.altering(10, nil, 17000)} }, -1,
			"vessel", nil},
		"vacuumed": {func(l *log) []*wal.Record { return []*wal.Record{lock(l, 10, 17000), l.altering(10, nil, 17000)} }, -1,
			"vessel", nil},
		"another database's": {func(l *log) []*wal.Record {
			return []*wal.Record{l.locks(10, wal.Lock{XID: 10, Database: 6, Relation: 17000}), l.update(10, class), l.altering(10, nil,
				17000)}
		}, -1, "vessel", nil},
		"partitioned, altered": {func(l *log) []*wal.Record {
			return []*wal.Record{lock(l, 10, 18000), l.insert(10, attribute), l.altering(10, nil, 18000)}
		}, Alter, "season", []string{"a column added"}},
		"partitioned, made": {func(l *log) []*wal.Record {
			made := l.insert(10, class)
			made.Blocks[0].Data = []byte{0, 0, 0, 0, 24, 0, 1, 2} // a row that is too short for its name
			return []*wal.Record{made, lock(l, 10, 18000), l.altering(10, nil, 18000)}
		}, Create, "season", nil},
		"partitioned, dropped": {func(l *log) []*wal.Record {
			return []*wal.Record{lock(l, 10, 18000), l.remove(10, class, 0), l.altering(10, nil, 18000)}
		}, Drop, "season", nil},
	} {
		l := &log{}
		b := NewBuilder(State{})
		var ended *Transaction
		for _, r := range c.make(l) {
			again := NewBuilder(b.State()) // as if a segment ended before each record
			tx, err := again.See(r, pg.Major(15))
			require.NoError(t, err, what)
			if b = again; tx != nil {
				ended = tx
			}
		}
		require.NotNil(t, ended, what)
		var w ledgerWriter
		w.add(ended)
		for tx, err := range readLedger(w.w.b) {
			require.NoError(t, err)
			for _, change := range tx.Tables(names(called)) {
				if change.Table == "vessel" || change.Table == "season" {
					require.GreaterOrEqual(t, c.kind, Operation(0), "%s: %v", what, change)
					assert.Equal(t, c.table, change.Table, what)
					want := Counts{}
					want[c.kind] = 1
					assert.Equal(t, want, change.Counts, what)
					c.table = ""
				}
			}
			assert.True(t, c.kind < 0 || c.table == "", "%s was noticed", what)
			if c.words != nil {
				assert.Equal(t, c.words, tx.Alterations(names(called)), what)
			}
		}
	}
	many := &Open{}
	for n := range uint32(3 * few) {
		many.lock(wal.RelationOID{Database: 5, OID: firstOfUsers + n})
		many.lock(wal.RelationOID{Database: 5, OID: firstOfUsers + n/2})
	}
	many.lock(wal.RelationOID{Database: 0, OID: firstOfUsers + 100})
	many.lock(wal.RelationOID{Database: 5, OID: firstOfUsers - 1})
	assert.Len(t, many.Locked, 3*few)
}

// TestTablesAbove finds partitions and children by the tables above them.
func TestTablesAbove(t *testing.T) {
	n := Name{Database: "saltmarsh", Schema: "archive", Table: "booking_2019", Above: `public.booking` + "\n" + `crew."Every ""Season"".x"`}
	for text, want := range map[string]string{
		"booking": "saltmarsh.public.booking", "public.booking": "saltmarsh.public.booking", "crew.booking": "", "ooking": "",
		"saltmarsh.public.booking": "saltmarsh.public.booking", "tidal.public.booking": "",
		`"Every ""Season"".x"`: `saltmarsh.crew."Every ""Season"".x"`,
		"x":                    "", `"x"`: "", "booking_2019": "",
	} {
		table, err := ParseTable(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, table.Above(n), text)
		f := Filter{Table: table}
		assert.Equal(t, want != "" || text == "booking_2019", f.meant(n, true), text)
	}
	assert.Empty(t, Table{Name: "booking"}.Above(Name{Table: "booking_2019"}))
}

// TestFirstFormat reads an index as the first format had it: seven kinds, names without those above them, no locks.
func TestFirstFormat(t *testing.T) {
	w := newWriter()
	for _, v := range []uint64{3, 7, 100, 200, 300, 5, 320, 0, 1, 0, 0} { // the head, without commits
		w.uint(v)
	}
	for k := range kindsOfFormat1 + 1 { // the most of each kind, and of rows
		w.int(int64(k))
	}
	w.count(0)
	name := func() {
		w.uint(16385)
		w.text("saltmarsh")
		w.text("public")
		w.text("booking")
		w.uint(uint64(Main))
	}
	w.count(1)
	w.relation(booking)
	w.bool(true)
	name()
	for k := range kindsOfFormat1 {
		if w.int(int64(k)); k > 0 {
			w.int(1)
		}
	}
	w.count(1)
	w.relation(booking)
	name()
	w.bytes(nil)
	for _, v := range []uint64{200, 190, 900, 1, 800, 0, 0} { // the state, without files of pg_class
		w.uint(v)
	}
	w.count(1)
	for _, v := range []uint64{850, 150, 77, 0} { // what is open
		w.uint(v)
	}
	w.text("")
	for range 7 {
		w.count(0)
	}
	w.count(0)
	old := w.seal("VELVETI\x01")
	s, err := DecodeIndex(old)
	require.NoError(t, err)
	want := Name{OID: 16385, Database: "saltmarsh", Schema: "public", Table: "booking"}
	assert.Equal(t, pg.Segment{Timeline: 3, Number: 7}, s.Head.Segment)
	assert.EqualValues(t, 7, s.MostRows)
	assert.Equal(t, Counts{0, 1, 2, 3, 4, 5, 6, 0}, s.Most)
	sum := TableSum{Name: want, Known: true, File: booking, Sum: Counts{0, 1, 2, 3, 4, 5, 6}, Most: Counts{0, 1, 1, 1, 1, 1, 1}}
	assert.Equal(t, []TableSum{sum}, s.Tables)
	assert.Equal(t, map[wal.RelationRef]Name{booking: want}, s.Names)
	assert.Equal(t, []Open{{XID: 850, First: 150, Bytes: 77}}, s.State.Open)
	again, err := DecodeIndex(s.Encode())
	require.NoError(t, err)
	assert.Equal(t, s, again, "it is written as the newest")
	for _, magic := range []string{"VELVETI", "VELVETI\x00", "VELVETI\x04"} {
		_, err := DecodeIndex([]byte(magic))
		require.ErrorIs(t, err, ErrFormat)
		_, err = DecodeIndex(append([]byte(magic), old[8:]...))
		require.ErrorIs(t, err, ErrFormat)
	}
}

// TestWho finds by ids: whatever ended under one of them, and in no segment that has none. Authors are named in a few words.
func TestWho(t *testing.T) {
	h := Head{Commits: 1, MinXID: 10, MaxXID: 20}
	for _, c := range []struct {
		ids []pg.FullXID
		is  bool
	}{{nil, true}, {[]pg.FullXID{}, false}, {[]pg.FullXID{9}, false}, {[]pg.FullXID{9, 10}, true}, {[]pg.FullXID{5, 20}, true},
		{[]pg.FullXID{21}, false}, {[]pg.FullXID{9, 21}, false}} {
		f := Filter{Empty: true, XIDs: c.ids}
		_, ok := f.Bound(&h, nil)
		assert.Equal(t, c.is, ok, c.ids)
	}
	f := Filter{Empty: true, XIDs: []pg.FullXID{9, 12}}
	for id, is := range map[pg.FullXID]bool{9: true, 10: false, 12: true, 13: false} {
		_, ok := f.Match(&Transaction{XID: id, Committed: true, End: 1}, nil, nil)
		assert.Equal(t, is, ok, id)
	}
	assert.Equal(t, "clerk", Author{Role: "clerk"}.String())
	assert.Equal(t, "clerk (desk) from 10.0.0.7", Author{Role: "clerk", Application: "desk", Address: "10.0.0.7"}.String())
	list := []Author{{XID: 1<<40 + 7, Role: "clerk", Statement: "delete\nfrom booking"}, {Role: "skipper"}}
	b, err := EncodeAuthors(list)
	require.NoError(t, err)
	again, err := DecodeAuthors(b)
	require.NoError(t, err)
	assert.Equal(t, list, again)
	_, err = DecodeAuthors(b[:len(b)-3])
	require.ErrorIs(t, err, ErrFormat)
}
