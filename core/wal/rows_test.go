package wal

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
)

// words writes 16-bit numbers, as records have them.
func words(values ...uint16) (b []byte) {
	for _, v := range values {
		b = binary.LittleEndian.AppendUint16(b, v)
	}
	return b
}

// rowForm is a row of two columns in a record, the first of which is NULL.
func rowForm(body string) []byte { return append(append(words(2, 1), 24, 0b10), body...) }

// TestRowEvents takes heap records apart: where each row lies and lay, what it became and what of that comes from its old form,
// and what is logged of that.
func TestRowEvents(t *testing.T) {
	const quay, pier = 16400, 16500
	at := func(file, block uint32, offset uint16) Place { return Place{RelationRef{1663, 5, file}, block, offset} }
	heap := func(info uint8, main, data []byte) *Record {
		return &Record{Start: 64, Manager: ManagerHeap, Info: info, Main: main,
			Blocks: []Block{{Space: 1663, Database: 5, Filenode: quay, Number: 3, Data: data}}}
	}
	form := func(body string) *Tuple {
		return &Tuple{Mask2: 2, Mask: 1, Offset: 24, Data: append([]byte{0b10}, body...)}
	}
	remove := func(flags byte, logged []byte) []byte { return append(append(words(0, 0, 7), 0, flags), logged...) }
	change := func(flags byte, logged []byte) []byte {
		return append(append(append(words(0, 0, 7), 0, flags), words(0, 0, 9)...), logged...)
	}
	multi := func(init uint8, main []byte, rows ...string) *Record {
		var data []byte
		for _, body := range rows {
			data = append(data, make([]byte, len(data)%2)...)
			data = append(append(append(data, words(uint16(1+len(body)), 2, 1)...), 24, 0b10), body...)
		}
		r := heap(0x50|init, main, data)
		r.Manager = ManagerHeap2
		return r
	}
	moved := heap(0x20, change(0, nil), rowForm("tide"))
	moved.Blocks = append(moved.Blocks, Block{Space: 1663, Database: 5, Filenode: quay, Number: 2})
	visible := heap(0x40, words(0, 0), nil)
	visible.Manager = ManagerHeap2
	for what, c := range map[string]struct {
		record *Record
		want   []RowEvent
	}{
		"inserted":            {heap(0x00, append(words(7), 0), rowForm("tide")), []RowEvent{{New: at(quay, 3, 7), Tuple: form("tide")}}},
		"in the image":        {heap(0x00, append(words(7), 0), nil), []RowEvent{{New: at(quay, 3, 7)}}},
		"deleted":             {heap(0x10, remove(0, nil), nil), []RowEvent{{Old: at(quay, 3, 7)}}},
		"moved away":          {heap(0x10, remove(1<<4, nil), nil), []RowEvent{{Old: at(quay, 3, 7), Moved: true}}},
		"taken back":          {heap(0x10, remove(1<<3, nil), nil), []RowEvent{{Old: at(quay, 3, 7), Undone: true}}},
		"deleted, and logged": {heap(0x10, remove(1<<1, rowForm("a")), nil), []RowEvent{{Old: at(quay, 3, 7), Logged: form("a")}}},
		"deleted, its key": {heap(0x10, remove(1<<2, rowForm("a")), nil),
			[]RowEvent{{Old: at(quay, 3, 7), Logged: form("a"), KeyOnly: true}}},
		"updated on its page": {heap(0x40, change(0, nil), rowForm("b")),
			[]RowEvent{{Old: at(quay, 3, 7), New: at(quay, 3, 9), Tuple: form("b")}}},
		"updated to another":    {moved, []RowEvent{{Old: at(quay, 2, 7), New: at(quay, 3, 9), Tuple: form("tide")}}},
		"updated, in the image": {heap(0x20, change(1<<5|1<<6, nil), nil), []RowEvent{{Old: at(quay, 3, 7), New: at(quay, 3, 9)}}},
		"updated, and logged": {heap(0x20, change(1<<2, rowForm("a")), nil),
			[]RowEvent{{Old: at(quay, 3, 7), New: at(quay, 3, 9), Logged: form("a")}}},
		"updated, its key": {heap(0x20, change(1<<3, rowForm("a")), nil),
			[]RowEvent{{Old: at(quay, 3, 7), New: at(quay, 3, 9), Logged: form("a"), KeyOnly: true}}},
		"updated at its end": {heap(0x40, change(1<<5, nil), append(words(4), rowForm("b")...)),
			[]RowEvent{{Old: at(quay, 3, 7), New: at(quay, 3, 9), Tuple: form("b"), Prefix: 4}}},
		"updated at its start": {heap(0x40, change(1<<6, nil), append(words(4), rowForm("b")...)),
			[]RowEvent{{Old: at(quay, 3, 7), New: at(quay, 3, 9), Tuple: form("b"), Suffix: 4}}},
		"updated within": {heap(0x40, change(1<<5|1<<6, nil), append(words(4, 5), rowForm("b")...)),
			[]RowEvent{{Old: at(quay, 3, 7), New: at(quay, 3, 9), Tuple: form("b"), Prefix: 4, Suffix: 5}}},
		"many": {multi(0, words(0, 2, 5, 8), "odd", "ebb!"),
			[]RowEvent{{New: at(quay, 3, 5), Tuple: form("odd")}, {New: at(quay, 3, 8), Tuple: form("ebb!")}}},
		"many on a new page": {multi(0x80, words(0, 2), "tide", "ebb"),
			[]RowEvent{{New: at(quay, 3, 1), Tuple: form("tide")}, {New: at(quay, 3, 2), Tuple: form("ebb")}}},
		"many, in the image": {multi(0, words(0, 1, 5)), []RowEvent{{New: at(quay, 3, 5)}}},
		"a lock":             {heap(0x60, remove(0, nil), nil), nil},
		"a visible page":     {visible, nil},
		"without a page":     {&Record{Manager: ManagerHeap, Info: 0x30}, nil},
		"another manager's":  {&Record{Manager: ManagerXLOG, Blocks: heap(0, nil, nil).Blocks}, nil},
		"another file's, deleted": {func() *Record {
			r := heap(0x10, remove(0, nil), nil)
			r.Blocks[0].Filenode = pier
			return r
		}(), []RowEvent{{Old: at(pier, 3, 7)}}},
	} {
		got, err := RowEvents(c.record)
		require.NoError(t, err, what)
		assert.Equal(t, c.want, got, what)
	}
	for what, r := range map[string]*Record{
		"an insert without its place": heap(0x00, nil, rowForm("a")), "a row shorter than its header": heap(0x00, words(7, 0),
			rowForm("a")[:4]),
		"a header longer than the row": heap(0x00, words(7, 0), append(words(2, 1), 25, 0b10)), "a header that is too short": heap(0x00,
			words(7, 0), append(words(2, 1), 22, 0b10)), "a delete without flags": heap(0x10, words(0, 0, 7), nil),
		"a delete that logs nothing": heap(0x10, remove(1<<1, nil), nil), "an update that logs nothing": heap(0x20, change(1<<2, nil), nil),
		"an update without its place":   heap(0x20, change(0, nil)[:12], nil),
		"an update without its lengths": heap(0x40, change(1<<5, nil), []byte{1}),
		"many without their places":     multi(0, words(0, 2, 5), "tide", "ebb"), "many of which one is cut": func() *Record {
			r := multi(0x80, words(0, 1), "tide")
			r.Blocks[0].Data = r.Blocks[0].Data[:10]
			return r
		}(), "many whose header is too short": func() *Record {
			r := multi(0x80, words(0, 1), "tide")
			r.Blocks[0].Data[6] = 22
			return r
		}(), "many of which one is missing": multi(0x80, words(0, 2), "tide"),
	} {
		_, err := RowEvents(r)
		var damage *Damage
		require.ErrorAs(t, err, &damage, what)
		assert.EqualValues(t, 64, damage.LSN, what)
	}
}

// TestForms puts new forms of rows together from what a record holds and the old ones.
func TestForms(t *testing.T) {
	tuple := func(body string) *Tuple {
		return &Tuple{Mask2: 2, Mask: 1, Offset: 24, Data: append([]byte{0b10}, body...)}
	}
	for what, c := range map[string]struct {
		e    RowEvent
		old  *Tuple
		want string // "" for none
	}{
		"whole":                {RowEvent{Tuple: tuple("tide")}, nil, "tide"},
		"whole, with an old":   {RowEvent{Tuple: tuple("tide")}, tuple("ebb"), "tide"},
		"in the image":         {RowEvent{}, tuple("ebb"), ""},
		"a new end":            {RowEvent{Tuple: tuple("de"), Prefix: 2}, tuple("tie"), "tide"},
		"a new start":          {RowEvent{Tuple: tuple("ti"), Suffix: 2}, tuple("wade"), "tide"},
		"a new middle":         {RowEvent{Tuple: tuple("id"), Prefix: 1, Suffix: 1}, tuple("toe"), "tide"},
		"nothing new":          {RowEvent{Tuple: tuple(""), Prefix: 2, Suffix: 2}, tuple("tide"), "tide"},
		"all of the old again": {RowEvent{Tuple: tuple("s"), Prefix: 4}, tuple("tide"), "tides"},
		"its old is not known": {RowEvent{Tuple: tuple("de"), Prefix: 2}, nil, ""},
		"a prefix too long":    {RowEvent{Tuple: tuple("de"), Prefix: 5}, tuple("tide"), ""},
		"a suffix too long":    {RowEvent{Tuple: tuple("de"), Suffix: 6}, tuple("tide"), ""},
	} {
		got, ok := c.e.Form(c.old)
		require.Equal(t, c.want != "", ok, what)
		if ok {
			assert.Equal(t, *tuple(c.want), got, what)
			assert.Equal(t, 2, got.Columns())
			assert.Equal(t, []byte{0b10}, got.Nulls())
			assert.Equal(t, c.want, string(got.Body()))
		}
	}
	assert.Nil(t, (&Tuple{Mask2: 2, Offset: 24, Data: []byte{0}}).Nulls(), "none is NULL")
}

// TestRowsOnAPage finds rows by their line pointers, and none where there is none.
func TestRowsOnAPage(t *testing.T) {
	page := make([]byte, pg.BlockSize)
	binary.LittleEndian.PutUint16(page[12:], 24+4*5)
	line := func(offset int, at, flags, length uint32) {
		binary.LittleEndian.PutUint32(page[20+4*offset:], at|flags<<15|length<<17)
	}
	row := append(make([]byte, 18), rowForm("tide")...)
	copy(page[8000:], row)
	line(1, 8000, 1, uint32(len(row)))
	line(2, 8000, 2, uint32(len(row))) // redirected
	line(3, 8000, 1, 22)
	line(4, 8000, 1, 200) // beyond the page's end
	line(5, 8000, 1, 23)  // its columns begin after its end
	assert.EqualValues(t, 5, TuplesOnPage(page))
	got, err := TupleOnPage(page, 1)
	require.NoError(t, err)
	assert.Equal(t, "tide", string(got.Body()))
	for _, offset := range []uint16{0, 2, 3, 4, 5, 6, 2042, 2043, 65535} {
		_, err := TupleOnPage(page, offset)
		require.ErrorIs(t, err, errTuple, "%d", offset)
	}
	for lower, want := range map[uint16]uint16{0: 0, 23: 0, 24: 0, 28: 1, 8192: 2042, 65535: 2042} {
		binary.LittleEndian.PutUint16(page[12:], lower)
		assert.Equal(t, want, TuplesOnPage(page), "%d", lower)
	}
	copy(page[8192-23:], append(make([]byte, 18), words(0, 0)...))
	page[8191] = 23
	line(1, 8192-23, 1, 23)
	empty, err := TupleOnPage(page, 1)
	require.NoError(t, err)
	assert.Empty(t, empty.Body())
}
