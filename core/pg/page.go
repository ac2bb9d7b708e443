package pg

import (
	"bytes"
	"encoding/binary"
	"fmt"
)

// BlockSize is the size of a table or index page in bytes; only clusters built
// with the default are supported, and the control file is checked for it.
const BlockSize = 8192

// WALBlockSize is the size of a WAL page in bytes (XLOG_BLCKSZ), of which only the default is supported.
const WALBlockSize = 8192

// BlocksPerFile is how many pages a relation's file has before the next file
// ("16385.1") begins: 1 GiB (RELSEG_SIZE).
const BlocksPerFile = 131072

const (
	pageHeaderSize     = 24
	checksumLanes      = 32
	checksumPrime      = 16777619
	pageChecksumOffset = 8
)

// checksumBase seeds the 32 lanes of the page checksum (checksumBaseOffsets in checksum_impl.h).
var checksumBase = [checksumLanes]uint32{
	0x5B1F36E9, 0xB8525960, 0x02AB50AA, 0x1DE66D2A,
	0x79FF467A, 0x9BB9F8A3, 0x217E7CD2, 0x83E13D2C,
	0xF8D4474F, 0xE39EB970, 0x42C6AE16, 0x993216FA,
	0x7B093B5D, 0x98DAFF3C, 0xF718902A, 0x0B1C9CDB,
	0xE58F764B, 0x187636BC, 0x5D7B3BB1, 0xE73DE7DE,
	0x92BEC979, 0xCCA6C0B2, 0x304A0979, 0x85AA43D4,
	0x783125BB, 0x6CA8EAA2, 0xE407EAC6, 0x4B5CFC3E,
	0x9FBF8C76, 0x15CA20BE, 0xF2CA9FD3, 0x959BD756,
}

// lanes are the running sums of a page checksum, one for each of the 32 words of a row.
type lanes [checksumLanes]uint32

const checksumRow = checksumLanes * 4 // bytes

// PageChecksum computes the checksum of an 8 KiB page at block number block of
// its relation (pg_checksum_page). The field that holds it is taken as zero.
func PageChecksum(page []byte, block uint32) uint16 {
	page = page[:BlockSize:BlockSize]
	sums := lanes(checksumBase)
	head := [checksumRow]byte(page)
	head[pageChecksumOffset], head[pageChecksumOffset+1] = 0, 0
	sums.mix(head[:])
	sums.mix(page[checksumRow:])
	var all uint32
	for _, s := range sums { // two more rounds over zeroes mix the last words in
		s = s*checksumPrime ^ s>>17
		s = s*checksumPrime ^ s>>17
		all ^= s
	}
	return uint16((all^block)%65535 + 1)
}

// mixRows takes whole rows into the sums: the reference for every other way to do it.
func (l *lanes) mixRows(rows []byte) {
	for ; len(rows) >= checksumRow; rows = rows[checksumRow:] {
		row := rows[:checksumRow:checksumRow]
		for lane := range l {
			t := l[lane] ^ binary.LittleEndian.Uint32(row[lane*4:])
			l[lane] = t*checksumPrime ^ t>>17
		}
	}
}

// PageFault says what is wrong with a page, or is empty.
type PageFault string

// CheckPage verifies one page of a relation's main, visibility-map or free-space
// fork. block is the page's number within the relation, not within its file.
// An all-zero page is right: the server extends files with them (PageIsVerified).
// With checksums off only the header is checked.
func CheckPage(page []byte, block uint32, checksums bool) PageFault {
	lower, upper := binary.LittleEndian.Uint16(page[12:]), binary.LittleEndian.Uint16(page[14:])
	if upper == 0 {
		if isZero(page) {
			return ""
		}
		return "its header says that it is new, yet it is not empty"
	}
	if checksums {
		stored := binary.LittleEndian.Uint16(page[pageChecksumOffset:])
		if want := PageChecksum(page, block); want != stored {
			return PageFault(fmt.Sprintf("checksum %04X expected, %04X found", want, stored))
		}
	}
	special, sizeVersion := binary.LittleEndian.Uint16(page[16:]), binary.LittleEndian.Uint16(page[18:])
	if sizeVersion&0xff00 != BlockSize || lower < pageHeaderSize || lower > upper || upper > special || special > BlockSize {
		return PageFault(fmt.Sprintf("impossible header: lower %d, upper %d, special %d, size %d", lower, upper, special,
			sizeVersion&0xff00))
	}
	return ""
}

// PageLSN is the end of the last WAL record that changed the page.
func PageLSN(page []byte) LSN {
	return LSN(uint64(binary.LittleEndian.Uint32(page))<<32 | uint64(binary.LittleEndian.Uint32(page[4:])))
}

func isZero(page []byte) bool { return bytes.Equal(page, zeroes[:len(page)]) }

var zeroes [BlockSize]byte
