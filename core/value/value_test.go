package value

import (
	"encoding/binary"
	"encoding/json"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	number4 = Column{Name: "id", Type: 23, TypeName: "integer", Length: 4, Align: "i"}
	note    = Column{Name: "note", Type: 25, TypeName: "text", Length: -1, Align: "i"}
	flag    = Column{Name: "flag", Type: 16, TypeName: "boolean", Length: 1, Align: "c"}
)

func le(values ...uint32) (b []byte) {
	for _, v := range values {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return b
}

// nothing is kept outside.
func nothing(Pointer) ([]byte, bool) { return nil, false }

// TestRead reads rows whose bytes are written by hand. Every type is held against real servers in engine/changes.
func TestRead(t *testing.T) {
	old, dropped, virtual := note, note, number4
	missing := "unknown harbour"
	old.Name, old.Missing = "old", &missing
	dropped.Dropped, virtual.Virtual = true, true
	foreign := Column{Name: "shape", Type: 99_999, TypeName: "shape", Length: 4, Align: "i"}
	mood := Column{Name: "mood", Type: 50_000, Length: 4, Align: "i", Labels: map[uint32]string{7: "calm"}}
	unknown := number4
	unknown.MissingUnknown = true
	outside := append([]byte{1, 18}, le(4+9, 9, 77, 500)...)
	for what, c := range map[string]struct {
		columns []Column
		row     Row
		outside Outside
		want    []Cell
	}{
		"aligned, with a short header": {[]Column{flag, number4, note}, Row{Columns: 3,
			Body: append([]byte{1, 0, 0, 0, 0xfe, 0xff, 0xff, 0xff}, append([]byte{4<<1 | 1}, "oar"...)...)}, nil,
			[]Cell{{Column: "flag", Text: "t"}, {Column: "id", Text: "-2"}, {Column: "note", Text: "oar"}}},
		"a long header, which is aligned": {[]Column{flag, note}, Row{Columns: 2, Body: append(append([]byte{0, 0, 0, 0}, le(7<<2)...),
			"oar"...)}, nil, []Cell{{Column: "flag", Text: "f"}, {Column: "note", Text: "oar"}}},
		"NULL, dropped, virtual": {[]Column{note, dropped, virtual, number4}, Row{Columns: 4, Nulls: []byte{0b1010},
			Body: append([]byte{2<<1 | 1, 'x', 0, 0}, le(5)...)}, nil, []Cell{{Column: "note", Null: true},
			{Column: "id", Why: "computed when it is read, and not stored"}, {Column: "id", Text: "5"}}},
		"columns that came later": {[]Column{flag, old, note, unknown}, Row{Columns: 1, Body: []byte{1}}, nil, []Cell{
			{Column: "flag", Text: "t"}, {Column: "old", Text: missing}, {Column: "note", Null: true},
			{Column: "id", Why: "the column is younger than the row, and the value that it was added with is not known"}}},
		"types of users": {[]Column{foreign, mood, mood}, Row{Columns: 3, Body: le(1, 7, 8)}, nil, []Cell{
			{Column: "shape", Why: "a value of type shape, which is not decoded"}, {Column: "mood", Text: "calm"},
			{Column: "mood", Why: "a value of type , which is not decoded"}}},
		"outside, and there": {[]Column{note}, Row{Columns: 1, Body: outside}, func(p Pointer) ([]byte, bool) {
			return []byte("lighthous"), p == Pointer{Size: 9, Raw: 9, ID: 77, Table: 500}
		}, []Cell{{Column: "note", Text: "lighthous"}}},
		"outside, and not there": {[]Column{note}, Row{Columns: 1, Body: outside}, nothing, []Cell{{Column: "note",
			Why: "9 bytes that are kept outside the row and are not in the WAL that was read"}}},
		"not UTF-8": {[]Column{note}, Row{Columns: 1, Body: []byte{2<<1 | 1, 0xff}}, nil, []Cell{{Column: "note",
			Why: "a value of type text, which is not decoded"}}},
		"bytes that are no value": {[]Column{{Name: "n", Type: 1700, TypeName: "numeric", Length: -1, Align: "i"}}, Row{Columns: 1,
			Body: []byte{5<<1 | 1, 0, 0x80, 0xff, 0xff}}, nil, []Cell{{Column: "n", Why: "its bytes are no value of type numeric"}}},
		"compressed with pglz": {[]Column{note}, Row{Columns: 1, Body: append(le(13<<2|2, 21), 0x02, 'x', 0x0f, 0x01, 0x02)}, nil,
			[]Cell{{Column: "note", Text: strings.Repeat("x", 21)}}},
		"compressed, and too long": {[]Column{note}, Row{Columns: 1,
			Body: append(le((8+1<<18)<<2|2, longest+1), make([]byte, 1<<18)...)}, nil,
			[]Cell{{Column: "note", Why: "a value of more than 16 MiB"}}},
		"compressed to more than it can be": {[]Column{note}, Row{Columns: 1,
			Body: append(le(13<<2|2, 1<<29), 0x02, 'x', 0x0f, 0x01, 0x02)}, nil,
			[]Cell{{Column: "note", Why: "its bytes are no value of type text"}}},
	} {
		cells, err := Read(c.columns, c.row, c.outside)
		require.NoError(t, err, what)
		assert.Equal(t, c.want, cells, what)
	}
	for what, row := range map[string]Row{
		"more columns than the table": {Columns: 3, Body: le(1, 2, 3)}, "too short": {Columns: 2, Body: le(1)},
		"a value longer than the row": {Columns: 2, Body: append(le(1), 9<<1|1)}, "NULLs for fewer columns": {Columns: 2, Nulls: []byte{}},
		"kept outside in memory":     {Columns: 2, Body: append(le(1), append([]byte{1, 1}, le(1, 2, 3, 4)...)...)},
		"outside, larger than whole": {Columns: 2, Body: append(le(1), append([]byte{1, 18}, le(5, 9, 77, 500)...)...)},
	} {
		_, err := Read([]Column{number4, note}, row, nothing)
		assert.ErrorIs(t, err, errRow, what)
	}
}

// recorded is a row of two columns as a server wrote it, the first a number, with what the server showed of the second.
type recorded struct {
	Column Column
	Body   []byte
	Text   string
}

// TestValuesOfServers reads values of every type that servers have written (TestRows in engine/changes records them, given a
// file in VELVET_VALUES).
func TestValuesOfServers(t *testing.T) {
	content, err := os.ReadFile("testdata/values.json")
	require.NoError(t, err)
	var list []recorded
	require.NoError(t, json.Unmarshal(content, &list))
	require.Greater(t, len(list), 150)
	seen := make(map[uint32]bool)
	for _, r := range list {
		cells, err := Read([]Column{number4, r.Column}, Row{Columns: 2, Body: r.Body}, nothing)
		require.NoError(t, err, r.Text)
		require.Len(t, cells, 2)
		assert.Equal(t, Cell{Column: r.Column.Name, Text: r.Text}, cells[1], r.Column.TypeName)
		seen[r.Column.Type] = true
		for n := range r.Body { // cut short it is no row, no value or another one, but never a fault
			_, _ = Read([]Column{number4, r.Column}, Row{Columns: 2, Body: r.Body[:n]}, nothing)
		}
	}
	for oid := range kinds {
		assert.True(t, seen[oid] || slices.Contains(arrays, oid) || kinds[oid] == number, "type %d", oid)
	}
}

// FuzzRead reads any bytes as a value of any type: it is a value, or there is none.
func FuzzRead(f *testing.F) {
	for oid := range kinds {
		f.Add(oid, []byte{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16})
		f.Add(oid, append(append([]byte{35}, le(1, 0, 23, 1, 1)...), 0, 0, 0))
		f.Add(oid, append([]byte{43}, le(1<<29|1, 5, 'o')...))
	}
	f.Fuzz(func(t *testing.T, oid uint32, body []byte) {
		k, known := kinds[oid]
		if !known {
			return
		}
		c := Column{Name: "c", Type: oid, Length: k.length, Align: k.align}
		cells, err := Read([]Column{c}, Row{Columns: 1, Body: body}, func(Pointer) ([]byte, bool) { return body, true })
		if err == nil {
			require.Len(t, cells, 1)
			require.False(t, cells[0].Null)
		}
	})
}
