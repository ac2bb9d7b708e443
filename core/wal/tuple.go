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
		row, err = rowOnPage(r, v)
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

// UpdatedRow gives what a heap UPDATE record holds of the row's new form: all its columns' bytes where the image of the
// page stands in the record, else what lies between the bytes that both forms share, with a header before it. ok is false
// for every other record.
func UpdatedRow(r *Record, v *pg.Version) (part []byte, ok bool, err error) {
	op := r.Info & heapOpMask
	if r.Manager != ManagerHeap || op != heapUpdate && op != heapHotUpdate || len(r.Blocks) == 0 {
		return nil, false, nil
	}
	if b := &r.Blocks[0]; len(b.Data) > 0 {
		return b.Data, true, nil
	}
	f := fields{b: r.Main}
	f.skip(12) // of the old form: xmax, offset number, infomask bits, flags; xmax of the new one
	part, err = rowAt(r, int(f.u16()), v)
	return part, err == nil, err
}

// rowOnPage finds an inserted row.
func rowOnPage(r *Record, v *pg.Version) ([]byte, error) {
	f := fields{b: r.Main}
	return rowAt(r, int(f.u16()), v)
}

// rowAt finds a row by its line pointer on the image of the page.
func rowAt(r *Record, offset int, v *pg.Version) ([]byte, error) {
	page, err := r.Blocks[0].Page(v)
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
