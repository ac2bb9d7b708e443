package journal_test

import (
	"encoding/binary"
	"fmt"
	"log"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// A builder is shown records in the order of the WAL, and hands a transaction over when it is told its end: with every row
// that it changed, whatever else was written in between.
func ExampleBuilder() {
	booking := wal.RelationRef{Space: 1663, Database: 5, Filenode: 16385}
	v := pg.Major(15)
	record := func(manager wal.Manager, info uint8, xid pg.XID, main []byte, pages ...wal.RelationRef) *wal.Record {
		r := &wal.Record{Manager: manager, Info: info, XID: xid, Main: main, Length: 60}
		for _, p := range pages {
			r.Blocks = append(r.Blocks, wal.Block{Space: p.Space, Database: p.Database, Filenode: p.Filenode})
		}
		return r
	}
	remove := func(xid pg.XID) *wal.Record { return record(wal.ManagerHeap, 0x10, xid, make([]byte, 8), booking) }
	commit := func(xid pg.XID) *wal.Record {
		return record(wal.ManagerTransaction, 0x00, xid, binary.LittleEndian.AppendUint64(nil, 846_331_200_000_000))
	}

	b := journal.NewBuilder(journal.State{})
	for i, r := range []*wal.Record{remove(738), remove(739), remove(738), commit(739), remove(738), commit(738)} {
		r.Start, r.End = pg.LSN(0x1000000+64*i), pg.LSN(0x1000000+64*(i+1))
		t, err := b.See(r, v)
		if err != nil {
			log.Fatal(err)
		}
		if t == nil {
			continue // it goes on
		}
		for _, c := range t.Tables(func(wal.RelationRef) (journal.Name, bool) {
			return journal.Name{OID: 16385, Database: "saltmarsh", Schema: "public", Table: "booking"}, true
		}) {
			fmt.Printf("tx %d, committed %s: %d rows of %s deleted\n", t.XID, t.Time.Format("15:04:05"),
				c.Counts[journal.Delete], c.Label())
		}
	}
	// Output:
	// tx 739, committed 12:00:00: 1 rows of booking deleted
	// tx 738, committed 12:00:00: 3 rows of booking deleted
}
