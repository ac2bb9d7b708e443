package wal

import (
	"encoding/binary"
	"errors"

	"velvetrewind/core/pg"
)

const (
	tupleHeader = 23 // SizeofHeapTupleHeader
	pageHead    = 24 // SizeOfPageHeaderData
	heapHeader  = 5  // SizeOfHeapHeader: two masks and the offset of the columns

	tupleColumns  = 0x07FF // HEAP_NATTS_MASK, of the second mask
	tupleHasNulls = 0x0001 // HEAP_HASNULL
)

var errTuple = errors.New("the record holds no row where it should")

// Tuple is a row in its heap form, without the ids of transactions in its header.
type Tuple struct {
	Mask2, Mask uint16
	Offset      uint8  // of the columns, from the beginning of the header (t_hoff)
	Data        []byte // all after the fixed header: which columns are NULL, padding, columns
}

// Columns is how many columns the row has; those that its table got later are not among them.
func (t *Tuple) Columns() int { return int(t.Mask2 & tupleColumns) }

// Nulls has a bit for each column, 0 for NULL; nil where no column is.
func (t *Tuple) Nulls() []byte {
	if t.Mask&tupleHasNulls == 0 {
		return nil
	}
	return t.Data[:t.body()]
}

// Body is the columns' bytes.
func (t *Tuple) Body() []byte { return t.Data[t.body():] }

func (t *Tuple) body() int { return int(t.Offset) - tupleHeader }

func (t *Tuple) whole() bool { return t.Offset >= tupleHeader && t.body() <= len(t.Data) }

// readTuple reads the short form in which rows stand in records: of a row put on a page, or of an old one.
func readTuple(b []byte) (Tuple, error) {
	if len(b) < heapHeader {
		return Tuple{}, errTuple
	}
	t := Tuple{Mask2: binary.LittleEndian.Uint16(b), Mask: binary.LittleEndian.Uint16(b[2:]), Offset: b[4], Data: b[heapHeader:]}
	if !t.whole() {
		return Tuple{}, errTuple
	}
	return t, nil
}

// TupleOnPage finds a row by its place on a page. It is good as long as the page is.
func TupleOnPage(page []byte, offset uint16) (Tuple, error) {
	at := pageHead + 4*(int(offset)-1)
	if offset < 1 || at+4 > len(page) {
		return Tuple{}, errTuple
	}
	const normal = 1
	line := binary.LittleEndian.Uint32(page[at:]) // ItemIdData: 15 bits offset, 2 bits flags, 15 bits length
	start, flags, length := int(line&0x7fff), line>>15&3, int(line>>17)
	if flags != normal || length < tupleHeader || start+length > len(page) {
		return Tuple{}, errTuple
	}
	b := page[start : start+length]
	t := Tuple{Mask2: binary.LittleEndian.Uint16(b[18:]), Mask: binary.LittleEndian.Uint16(b[20:]), Offset: b[22], Data: b[tupleHeader:]}
	if !t.whole() {
		return Tuple{}, errTuple
	}
	return t, nil
}

// TuplesOnPage is how many places for rows a page has.
func TuplesOnPage(page []byte) uint16 {
	lower := int(binary.LittleEndian.Uint16(page[12:]))
	return uint16(max(0, min(lower, len(page))-pageHead) / 4)
}

// InsertedRow gives the columns' bytes of the row that a heap INSERT record puts on a
// page, after the row's header: from the record itself, or from the image of the page
// where that stands instead. ok is false for every other record. It does not tell
// which columns are NULL, so that only what lies before the first that can be is known.
func InsertedRow(r *Record, v *pg.Version) (row []byte, ok bool, err error) {
	if r.Manager != ManagerHeap || r.Info&heapOpMask != heapInsert || len(r.Blocks) == 0 {
		return nil, false, nil
	}
	var t Tuple
	if b := &r.Blocks[0]; len(b.Data) > 0 {
		t, err = readTuple(b.Data)
	} else {
		f := fields{b: r.Main}
		t, err = tupleOnImage(b, f.u16(), v)
	}
	if err != nil {
		return nil, false, damaged(r.Start, "%v", err)
	}
	return t.Body(), true, nil
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
	t, err := tupleOnImage(&r.Blocks[0], f.u16(), v)
	if err != nil {
		return nil, false, damaged(r.Start, "%v", err)
	}
	return t.Body(), true, nil
}

// tupleOnImage finds a row on the image of a page.
func tupleOnImage(b *Block, offset uint16, v *pg.Version) (Tuple, error) {
	page, err := b.Page(v)
	if err != nil {
		return Tuple{}, err
	}
	return TupleOnPage(page, offset)
}
