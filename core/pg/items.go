package pg

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
)

// Layout is how the items of a page are arranged.
type Layout int

// The layouts: of tables, of indexes whose pages have the usual items, and of pages of which only the header is common.
const (
	HeapPage Layout = iota
	ItemPage
	OtherPage
)

// States of a line pointer (storage/itemid.h).
const (
	itemUnused   = 0
	itemNormal   = 1
	itemRedirect = 2
	itemDead     = 3
)

// heapTupleHeader is the least length of a row's header.
const heapTupleHeader = 24

// CheckItems verifies that the line pointers of a page lie in bounds, and that what they point to does: what can be told of a
// page without a checksum, once CheckPage has found its header to be right. An all-zero page is right.
func CheckItems(page []byte, l Layout) PageFault {
	lower, upper := binary.LittleEndian.Uint16(page[12:]), binary.LittleEndian.Uint16(page[14:])
	special := binary.LittleEndian.Uint16(page[16:])
	if l == OtherPage || upper == 0 {
		return ""
	}
	if (lower-pageHeaderSize)%4 != 0 {
		return PageFault(fmt.Sprintf("its line pointers end at %d, within one", lower))
	}
	count := (lower - pageHeaderSize) / 4
	for i := range count {
		item := binary.LittleEndian.Uint32(page[pageHeaderSize+4*i:])
		offset, state, length := uint16(item&0x7fff), item>>15&3, uint16(item>>17)
		stored := offset >= upper && uint32(offset)+uint32(length) <= uint32(special) && offset%8 == 0
		right := false
		switch {
		case state == itemUnused:
			right = length == 0
		case state == itemRedirect:
			right = l == HeapPage && length == 0 && offset >= 1 && offset <= count
		case state == itemDead && length == 0:
			right = true
		case state == itemDead:
			right = l == ItemPage && stored
		case l == HeapPage:
			right = stored && length >= heapTupleHeader && heapHeaderFits(page[offset:offset+length])
		default:
			right = stored && length >= 8
		}
		if !right {
			return PageFault(fmt.Sprintf("line pointer %d is impossible: offset %d, length %d, state %d", i+1, offset, length, state))
		}
	}
	return ""
}

// heapHeaderFits tells whether a row's data begins within it (t_hoff).
func heapHeaderFits(row []byte) bool {
	header := uint16(row[22])
	return header >= heapTupleHeader-1 && header%8 == 0 && int(header) <= len(row)
}

// ErrMap is that of a relation map that is not what a server wrote.
type ErrMap string

func (e ErrMap) Error() string { return string(e) }

// relationMapMagic begins every relation map (relmapper.c).
const relationMapMagic = 0x592717

// CheckRelationMap verifies a pg_filenode.map of a version: its magic number, its length and its CRC.
func CheckRelationMap(b []byte, v *Version) error {
	crcAt := 8 + 8*v.MapEntries
	switch {
	case len(b) < crcAt+4:
		return ErrMap(fmt.Sprintf("%d bytes are too few", len(b)))
	case binary.LittleEndian.Uint32(b) != relationMapMagic:
		return ErrMap(fmt.Sprintf("it begins with %08X, not %08X", binary.LittleEndian.Uint32(b), relationMapMagic))
	case binary.LittleEndian.Uint32(b[4:]) > uint32(v.MapEntries):
		return ErrMap(fmt.Sprintf("it says that it has %d entries", binary.LittleEndian.Uint32(b[4:])))
	case crc32.Checksum(b[:crcAt], Castagnoli) != binary.LittleEndian.Uint32(b[crcAt:]):
		return ErrMap("its CRC is wrong")
	}
	return nil
}
