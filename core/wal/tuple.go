package wal

import (
	"encoding/binary"
	"errors"

	"velvetrewind/core/pg"
)

const (
	tupleHeader = 23 // SizeofHeapTupleHeader
	pageHead    = 24 // SizeOfPageHeaderData
)

var errTuple = errors.New("the record holds no row where it should")

// InsertedRow gives the columns' bytes of the row that a heap INSERT record puts on a
// page, after the row's header: from the record itself, or from the image of the page
// where that stands instead. ok is false for every other record. It does not tell
// which columns are NULL, so that only what lies before the first that can be is known.
func InsertedRow(r *Record, v *pg.Version) (row []byte, ok bool, err error) {
	if r.Manager != ManagerHeap || r.Info&heapOpMask != heapInsert || len(r.Blocks) == 0 {
		return nil, false, nil
	}
	b := &r.Blocks[0]
	if len(b.Data) == 0 {
		row, err = rowOnPage(r, b, v)
		return row, err == nil, err
	}
	// xl_heap_header: two masks and the offset of the columns, then all after the fixed header.
	const short = 5
	if len(b.Data) < short {
		return nil, false, damaged(r.Start, "%v", errTuple)
	}
	skip := int(b.Data[short-1]) - tupleHeader
	if skip < 0 || short+skip > len(b.Data) {
		return nil, false, damaged(r.Start, "%v", errTuple)
	}
	return b.Data[short+skip:], true, nil
}

// rowOnPage finds the row by its line pointer on the image of the page.
func rowOnPage(r *Record, b *Block, v *pg.Version) ([]byte, error) {
	f := fields{b: r.Main}
	offset := int(f.u16())
	page, err := b.Page(v)
	if err != nil {
		return nil, damaged(r.Start, "%v", err)
	}
	at := pageHead + 4*(offset-1)
	if offset < 1 || at+4 > pg.BlockSize {
		return nil, damaged(r.Start, "%v", errTuple)
	}
	line := binary.LittleEndian.Uint32(page[at:]) // ItemIdData: 15 bits offset, 2 bits flags, 15 bits length
	start, length := int(line&0x7fff), int(line>>17)
	if length < tupleHeader || start+length > pg.BlockSize {
		return nil, damaged(r.Start, "%v", errTuple)
	}
	tuple := page[start : start+length]
	columns := int(tuple[tupleHeader-1])
	if columns > length {
		return nil, damaged(r.Start, "%v", errTuple)
	}
	return tuple[columns:], nil
}
