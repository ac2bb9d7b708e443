package rows_test

import (
	"encoding/binary"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/core/rows"
	"velvetrewind/core/value"
	"velvetrewind/core/wal"
)

var table = wal.RelationRef{Space: 1663, Database: 5, Filenode: 16400}

// page is a page of a table as the server has it: rows of one column, a text of its own.
type page struct {
	rows  map[uint16]string
	known map[uint16]bool // the WAL since the beginning, or since the last image, tells
}

// heap writes records of a table of one page, and knows what each changes.
type heap struct {
	page
	next uint16
	at   pg.LSN
	log  []*wal.Record
}

const mine = pg.XID(700)

func u16(values ...uint16) (b []byte) {
	for _, v := range values {
		b = binary.LittleEndian.AppendUint16(b, v)
	}
	return b
}

// form is a row in a record: one column without NULLs, at offset 24.
func form(body string) []byte { return append(append(u16(1, 0), 24, 0), body...) }

func (h *heap) record(xid pg.XID, info uint8, main, data []byte) {
	h.at += 64
	h.log = append(h.log, &wal.Record{Start: h.at, End: h.at + 64, XID: xid, Manager: wal.ManagerHeap, Info: info, Main: main,
		Blocks: []wal.Block{{Space: table.Space, Database: table.Database, Filenode: table.Filenode, Number: 3, Data: data}}})
}

// image has the last record carry its page, as it is after it; gone is a row that still lies there.
func (h *heap) image(gone uint16, body string) {
	tuples := make(map[uint16][]byte)
	for offset, body := range h.rows {
		tuples[offset] = form(body)
		h.known[offset] = true
	}
	if gone != 0 {
		tuples[gone] = form(body)
	}
	h.imageOf(tuples)
}

// imageOf makes the image of rows.
func (h *heap) imageOf(tuples map[uint16][]byte) {
	p := make([]byte, pg.BlockSize)
	binary.LittleEndian.PutUint16(p[12:], 24+4*(h.next-1))
	at := pg.BlockSize
	for offset, form := range tuples {
		tuple := append(make([]byte, 18), form...)
		at -= (len(tuple) + 7) / 8 * 8
		copy(p[at:], tuple)
		binary.LittleEndian.PutUint32(p[24+4*(offset-1):], uint32(at)|1<<15|uint32(len(tuple))<<17)
	}
	h.log[len(h.log)-1].Blocks[0].Image = p
}

// TestRowsAgainstAModel has rows of a page changed by many, with images of the page now and then: what is found is what was
// there, and what the log does not hold since its beginning is not found.
func TestRowsAgainstAModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := heap{page: page{rows: map[uint16]string{1: "aa-1-zz", 2: "aa-2-zz"}, known: map[uint16]bool{}}, next: 3}
		type expected struct{ before, after string } // "?" for what is not known
		var want []expected
		for n := range rapid.IntRange(1, 60).Draw(t, "records") {
			xid := rapid.SampledFrom([]pg.XID{mine, mine + 1}).Draw(t, "xid")
			image := rapid.IntRange(0, 4).Draw(t, "image") == 0
			var e expected
			old := rapid.Uint16Range(1, h.next).Draw(t, "row")
			before, there := h.rows[old]
			wasKnown := h.known[old] || image
			body := fmt.Sprintf("aa-%d-zz", n+10)
			switch kind := rapid.SampledFrom([]string{"insert", "update", "delete"}).Draw(t, "kind"); {
			case kind == "insert" || !there:
				e.after = body
				h.rows[h.next], h.known[h.next] = body, true
				h.record(xid, 0x00, append(u16(h.next), 0), form(body))
				h.next++
				old = 0
			case kind == "update":
				e = expected{before, body}
				main := append(u16(0, 0, old), 0, 1<<5|1<<6)
				main = append(main, u16(0, 0, h.next)...)
				shared := form(body[3 : len(body)-3])
				h.record(xid, 0x40, main, append(u16(3, 3), shared...))
				delete(h.rows, old)
				h.rows[h.next], h.known[h.next] = body, wasKnown
				if !wasKnown {
					e = expected{"?", "?"}
				}
				h.next++
			default:
				e.before = before
				h.record(xid, 0x10, append(append(u16(0, 0, old), 0), 0), nil)
				delete(h.rows, old)
				if !wasKnown {
					e.before = "?"
				}
			}
			if image {
				h.image(old, before)
				if last := &h.log[len(h.log)-1].Blocks[0]; rapid.Bool().Draw(t, "image alone") {
					last.Data = nil
				}
			}
			if xid == mine {
				want = append(want, e)
			}
		}
		limit := rapid.IntRange(1, 60).Draw(t, "limit")
		scout := rows.NewScout(rows.Wanted{XIDs: map[pg.XID]bool{mine: true}, Tables: map[wal.RelationRef]bool{table: true}, Limit: limit})
		for _, r := range h.log {
			enough, err := scout.See(r)
			require.NoError(t, err)
			if enough {
				break
			}
		}
		require.Equal(t, len(want) > limit, scout.More)
		finder := scout.Finder()
		for _, r := range h.log {
			require.NoError(t, finder.See(r, pg.Major(15)))
		}
		require.True(t, finder.Done())
		want = want[:min(limit, len(want))]
		require.Len(t, finder.Changes(), len(want))
		text := func(t *wal.Tuple, none bool) string {
			switch {
			case none:
				return ""
			case t == nil:
				return "?"
			}
			return string(t.Body())
		}
		for i, c := range finder.Changes() {
			assert.Equal(t, want[i], expected{text(c.Before, c.Inserted()), text(c.After, c.Deleted())}, "%d", i)
		}
	})
}

// found looks for rows in a log, and writes what they were and became, "?" for what is not known.
func found(t require.TestingT, log []*wal.Record) (list []string, f *rows.Finder) {
	scout := rows.NewScout(rows.Wanted{XIDs: map[pg.XID]bool{mine: true}, Tables: map[wal.RelationRef]bool{table: true},
		Toast: map[wal.RelationRef]bool{toast: true}, Limit: 100})
	for _, r := range log {
		enough, err := scout.See(r)
		require.NoError(t, err)
		require.False(t, enough)
	}
	f = scout.Finder()
	for _, r := range log {
		require.NoError(t, f.See(r, pg.Major(15)))
	}
	for _, c := range f.Changes() {
		s := ""
		if c.Before != nil {
			s = string(c.Before.Body())
		} else if !c.Inserted() {
			s = "?"
		}
		if c.OnlyKey {
			s += " by its key"
		}
		if c.Moved {
			s += " moved"
		}
		if c.After != nil {
			s += " to " + string(c.After.Body())
		} else if !c.Deleted() {
			s += " to ?"
		}
		list = append(list, s)
	}
	return list, f
}

// TestWhatIsKnownOfRows goes through what makes a row known, and what makes it unknown again.
func TestWhatIsKnownOfRows(t *testing.T) {
	insert := func(h *heap, xid pg.XID, offset uint16, body string) {
		h.record(xid, 0x00, append(u16(offset), 0), form(body))
	}
	remove := func(h *heap, flags byte, logged []byte) {
		h.record(mine, 0x10, append(append(append(u16(0, 0, 1), 0), flags), logged...), nil)
	}
	for what, c := range map[string]struct {
		log  func(*heap)
		want []string
	}{
		"inserted by another": {func(h *heap) { insert(h, mine+1, 1, "tide"); remove(h, 0, nil) }, []string{"tide"}},
		"nobody knows":        {func(h *heap) { remove(h, 0, nil) }, []string{"?"}},
		"logged as a whole":   {func(h *heap) { remove(h, 1<<1, form("ebb")) }, []string{"ebb"}},
		"logged by its key":   {func(h *heap) { remove(h, 1<<2, form("7")) }, []string{"7 by its key"}},
		"known, and logged":   {func(h *heap) { insert(h, mine+1, 1, "tide"); remove(h, 1<<2, form("7")) }, []string{"tide"}},
		"moved away":          {func(h *heap) { insert(h, mine+1, 1, "tide"); remove(h, 1<<4, nil) }, []string{"tide moved"}},
		"taken back":          {func(h *heap) { insert(h, mine, 1, "tide"); remove(h, 1<<3, nil) }, []string{" to tide"}},
		"another table's, another's": {func(h *heap) {
			insert(h, mine, 1, "tide")
			h.log[0].Blocks[0].Filenode++
			insert(h, mine+1, 1, "tide")
		}, nil},
		"the page was made anew": {func(h *heap) {
			insert(h, mine+1, 1, "tide")
			insert(h, mine+1, 2, "ebb")
			h.log[1].Blocks[0].WillInit = true
			remove(h, 0, nil)
		}, []string{"?"}},
		"overwritten in place": {func(h *heap) {
			insert(h, mine+1, 1, "tide")
			h.record(mine+1, 0x70, u16(1), nil)
			remove(h, 0, nil)
		}, []string{"?"}},
		"overwritten in place, with an image": {func(h *heap) {
			h.rows, h.known, h.next = map[uint16]string{1: "ebb"}, map[uint16]bool{}, 2
			h.record(mine+1, 0x70, u16(1), nil)
			h.image(0, "")
			remove(h, 0, nil)
		}, []string{"ebb"}},
		"locked": {func(h *heap) {
			insert(h, mine+1, 1, "tide")
			h.record(mine+1, 0x60, append(u16(0, 0, 1), 0, 0), nil)
			remove(h, 0, nil)
		}, []string{"tide"}},
		"in the image of a record's third page": {func(h *heap) {
			h.rows, h.known, h.next = map[uint16]string{1: "ebb"}, map[uint16]bool{}, 2
			h.record(mine+1, 0xB0, nil, nil) // full-page images
			h.image(0, "")
			r := h.log[0]
			r.Manager = wal.ManagerXLOG
			other := wal.Block{Space: 1663, Database: 5, Filenode: table.Filenode, Number: 99}
			r.Blocks = []wal.Block{other, other, r.Blocks[0]}
			remove(h, 0, nil)
		}, []string{"ebb"}},
		"another manager's record": {func(h *heap) {
			insert(h, mine+1, 1, "tide")
			h.record(mine+1, 0x70, u16(1), nil)
			h.log[1].Manager = wal.ManagerXLOG
			remove(h, 0, nil)
		}, []string{"tide"}},
		"the visibility map's page of the same number": {func(h *heap) {
			insert(h, mine+1, 1, "tide")
			h.rows, h.known, h.next = map[uint16]string{1: "ebb"}, map[uint16]bool{}, 2
			h.record(mine+1, 0x60, append(u16(0, 0, 1), 0, 0), nil)
			h.image(0, "")
			h.log[1].Blocks[0].Fork = 2
			remove(h, 0, nil)
		}, []string{"tide"}},
	} {
		h := &heap{}
		c.log(h)
		list, _ := found(t, h.log)
		assert.Equal(t, c.want, list, what)
	}
}

var toast = wal.RelationRef{Space: 1663, Database: 5, Filenode: 16405}

// chunk is a row of a TOAST table: the id of a value, the number of its part, and that.
func chunk(id, number uint32, part string) []byte {
	b := binary.LittleEndian.AppendUint32(nil, id)
	b = binary.LittleEndian.AppendUint32(b, number)
	b = binary.LittleEndian.AppendUint32(b, uint32(4+len(part))<<2)
	return append(append(append(u16(3, 0), 24, 0), b...), part...)
}

// outside is a row whose one value is kept outside it.
func outside(id uint32, size int) string {
	b := []byte{1, 18}
	for _, v := range []uint32{uint32(size) + 4, uint32(size), id, 500} {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return string(b)
}

// TestValuesOutsideTheirRows puts values together from the parts that the log holds, whoever wrote them, and gives none of
// which a part is missing.
func TestValuesOutsideTheirRows(t *testing.T) {
	part := func(h *heap, xid pg.XID, block uint32, info uint8, main, data []byte) {
		h.record(xid, info, main, data)
		b := &h.log[len(h.log)-1].Blocks[0]
		b.Filenode, b.Number = toast.Filenode, block
	}
	put := func(h *heap, xid pg.XID, block uint32, offset uint16, data []byte) {
		part(h, xid, block, 0x00, append(u16(offset), 0), data)
	}
	end := func(h *heap, block uint32, offset uint16) {
		part(h, mine, block, 0x10, append(append(u16(0, 0, offset), 0), 0), nil)
	}
	row := func(h *heap, body string) { h.record(mine, 0x00, append(u16(1), 0), form(body)) }
	long := strings.Repeat("~", 8000)
	for what, c := range map[string]struct {
		log  func(*heap)
		want string // "" for none
	}{
		"two parts, the second first": {func(h *heap) {
			put(h, mine, 1, 1, chunk(77, 1, "house"))
			put(h, mine, 1, 2, chunk(77, 0, "light"))
			row(h, outside(77, 10))
		}, "lighthouse"},
		"a part is missing": {func(h *heap) { put(h, mine, 1, 1, chunk(77, 0, "light")); row(h, outside(77, 10)) }, ""},
		"too much is there": {func(h *heap) { put(h, mine, 1, 1, chunk(77, 0, "lighthouses")); row(h, outside(77, 10)) }, ""},
		"an empty part":     {func(h *heap) { put(h, mine, 1, 1, chunk(77, 0, "")); row(h, outside(77, 10)) }, ""},
		"another value's":   {func(h *heap) { put(h, mine, 1, 1, chunk(78, 0, "lighthouse")); row(h, outside(77, 10)) }, ""},
		"of another, on a page that is not needed": {func(h *heap) {
			put(h, mine+1, 1, 1, chunk(77, 0, "lighthouse"))
			row(h, outside(77, 10))
		}, ""},
		"on a page of which something is deleted, in its image": {func(h *heap) {
			put(h, mine+1, 1, 1, chunk(77, 0, "lighthouse"))
			h.rows, h.known, h.next = map[uint16]string{}, map[uint16]bool{}, 2
			h.imageOf(map[uint16][]byte{1: chunk(77, 0, "lighthouse")})
			row(h, outside(77, 10))
			end(h, 1, 1)
		}, "lighthouse"},
		"not a row of three columns": {func(h *heap) {
			data := chunk(77, 0, "lighthouse")
			data[0] = 2
			put(h, mine, 1, 1, data)
			row(h, outside(77, 10))
		}, ""},
		"a row too short for a part": {func(h *heap) {
			put(h, mine, 1, 1, chunk(77, 0, "")[:12])
			put(h, mine, 1, 2, chunk(77, 0, "lighthouse"))
			row(h, outside(77, 10))
		}, "lighthouse"},
		"the same part again": {func(h *heap) {
			for n := range uint16(2500) {
				put(h, mine, 1, n+1, chunk(77, 0, long))
			}
			put(h, mine, 2, 1, chunk(78, 0, "lighthouse"))
			row(h, outside(78, 10))
		}, "lighthouse"},
		"more parts than are kept": {func(h *heap) {
			for n := range uint32(2500) {
				put(h, mine, 1, uint16(n+1), chunk(77, n, long))
			}
			row(h, outside(77, 2500*len(long)))
		}, ""},
		"the last page that is looked at": {func(h *heap) { onPages(h, put, end, 4096); row(h, outside(77, 10)) }, "lighthouse"},
		"one page more":                   {func(h *heap) { onPages(h, put, end, 4097); row(h, outside(77, 10)) }, ""},
	} {
		h := &heap{}
		c.log(h)
		_, f := found(t, h.log)
		require.Len(t, f.Changes(), 1, what)
		cells, err := f.Cells([]value.Column{{Name: "note", Type: 25, Length: -1, Align: "i"}}, f.Changes()[0].After)
		require.NoError(t, err, what)
		assert.Equal(t, c.want, cells[0].Text, what)
		assert.Equal(t, c.want == "", cells[0].Why != "", what)
	}
}

// onPages has something be deleted on each of so many pages of the TOAST table, of which the last holds a part in its image.
func onPages(h *heap, put func(*heap, pg.XID, uint32, uint16, []byte), end func(*heap, uint32, uint16), pages uint32) {
	put(h, mine+1, pages, 1, chunk(77, 0, "lighthouse"))
	h.rows, h.known, h.next = map[uint16]string{}, map[uint16]bool{}, 2
	h.imageOf(map[uint16][]byte{1: chunk(77, 0, "lighthouse")})
	for n := range pages {
		end(h, n+1, 1)
	}
}
