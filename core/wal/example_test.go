package wal_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"log"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// The WAL is a row of pages of 8 KiB. A page begins with a header that says which version wrote it, on which timeline, and
// at which address it stands. Records follow one another, each on a multiple of eight bytes, and go on over the borders of
// pages. A record tells its length, its transaction, where the record before it begins, and which resource manager
// understands it; a CRC covers it.
func Example() {
	const at = pg.LSN(0x1002000) // a page that begins no segment has the short header

	page := make([]byte, 24, wal.PageSize)
	binary.LittleEndian.PutUint16(page[0:], pg.Major(15).PageMagic)
	binary.LittleEndian.PutUint32(page[4:], 1)          // timeline
	binary.LittleEndian.PutUint64(page[8:], uint64(at)) // so that a page of an earlier use of the file is not believed

	// Transaction 738 commits: of resource manager 1, with the time in microseconds since 2000.
	noon := uint64(846_331_200_000_000)
	page = appendRecord(page, 738, 1, 0x00, binary.LittleEndian.AppendUint64(nil, noon))

	r := wal.NewReader(bytes.NewReader(page), wal.Options{Start: at, SegmentSize: pg.DefaultSegmentSize})
	for {
		rec, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			log.Fatal(err)
		}
		fmt.Printf("%s to %s: %s %s, %d bytes\n", rec.Start, rec.End, rec.Manager, rec.Kind(r.Version()), rec.Length)
		body, err := wal.Decode(rec, r.Version())
		if err != nil {
			log.Fatal(err)
		}
		if end, ok := body.(wal.End); ok {
			fmt.Printf("transaction %d committed at %s\n", end.XID, end.Time.Format("2006-01-02 15:04:05"))
		}
	}

	page[24+30] ^= 1 // a bit of the time turns over on the disk
	_, err := wal.NewReader(bytes.NewReader(page), wal.Options{Start: at, SegmentSize: pg.DefaultSegmentSize}).Next()
	fmt.Println(err)
	// Output:
	// 0/1002018 to 0/1002040: Transaction COMMIT, 34 bytes
	// transaction 738 committed at 2026-10-26 12:00:00
	// the WAL cannot be replayed from 0/1002018 on: record CRC 288E55CF expected, 92C19741 found
}

// appendRecord writes a record that refers to no page: its header, an id that says that data of so many bytes follow, and
// these.
func appendRecord(page []byte, xid pg.XID, manager, info byte, data []byte) []byte {
	const header = 24
	rec := make([]byte, header)
	rec = append(rec, 255, byte(len(data)))
	rec = append(rec, data...)
	binary.LittleEndian.PutUint32(rec[0:], uint32(len(rec)))
	binary.LittleEndian.PutUint32(rec[4:], uint32(xid))
	rec[16], rec[17] = info, manager

	table := crc32.MakeTable(crc32.Castagnoli) // of what follows the header first, and then of the header
	sum := crc32.Update(crc32.Checksum(rec[header:], table), table, rec[:20])
	binary.LittleEndian.PutUint32(rec[20:], sum)
	for len(rec)%8 != 0 {
		rec = append(rec, 0)
	}
	return append(page, rec...)
}
