package rows_test

import (
	"encoding/binary"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/core/rows"
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
	p := make([]byte, pg.BlockSize)
	binary.LittleEndian.PutUint16(p[12:], 24+4*(h.next-1))
	at := pg.BlockSize
	put := func(offset uint16, body string) {
		tuple := append(make([]byte, 18), append(u16(1, 0), append([]byte{24, 0}, body...)...)...)
		at -= (len(tuple) + 7) / 8 * 8
		copy(p[at:], tuple)
		binary.LittleEndian.PutUint32(p[24+4*(offset-1):], uint32(at)|1<<15|uint32(len(tuple))<<17)
	}
	for offset, body := range h.rows {
		put(offset, body)
		h.known[offset] = true
	}
	if gone != 0 {
		put(gone, body)
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
