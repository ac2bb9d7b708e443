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
	in := func(encoding string) Column {
		c := note
		c.Encoding = encoding
		return c
	}
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
			Why: "text in the encoding UTF8, which is not decoded"}}},
		"in other encodings": {[]Column{in("LATIN1"), in("WIN1252"), in("WIN1252"), in("EUC_JP"), in("EUC_JP"), in("SQL_ASCII")},
			Row{Columns: 6, Body: []byte("\x05\xe9\x05\x80\x05\x81\x05\x80\x05~\x05\xc3")}, nil, []Cell{{Column: "note", Text: "é"},
				{Column: "note", Text: "€"}, {Column: "note", Why: "text in the encoding WIN1252, which is not decoded"},
				{Column: "note", Why: "text in the encoding EUC_JP, which is not decoded"}, {Column: "note", Text: "~"},
				{Column: "note", Why: "text in the encoding SQL_ASCII, which is not decoded"}}},
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

// TestValuesByHand reads values that no server here wrote, and bytes that are none.
func TestValuesByHand(t *testing.T) {
	le16 := func(values ...uint16) (b []byte) {
		for _, v := range values {
			b = binary.LittleEndian.AppendUint16(b, v)
		}
		return b
	}
	interval := func(us uint64, days, months uint32) []byte {
		return append(le(uint32(us), uint32(us>>32)), le(days, months)...)
	}
	most, least := uint64(1<<63-1), uint64(1<<63)
	word := func(at, length uint32, places uint32) []byte { return le(places | length<<1 | at<<12) }
	query := func(items ...[]byte) (b []byte) {
		b = le(uint32(len(items)))
		for _, i := range items {
			b = append(b, i...)
		}
		return append(b, "ab"...)
	}
	value := func(at, length uint32) []byte {
		return append([]byte{queryValue, 0, 0, 0, 0, 0, 0, 0}, le(length|at<<12)...)
	}
	not := append([]byte{2, queryNot, 0, 0}, le(0, 0)...)
	for _, c := range []struct {
		oid  uint32
		b    []byte
		want string // "" with bad for none
		bad  bool
	}{
		{1186, interval(most, 1<<31-1, 1<<31-1), "infinity", false},
		{1186, interval(most, 1<<31-1, 3), "3 mons 2147483647 days 2562047788:00:54.775807", false},
		{1186, interval(most, 3, 1<<31-1), "178956970 years 7 mons 3 days 2562047788:00:54.775807", false},
		{1186, interval(7, 1<<31-1, 1<<31-1), "178956970 years 7 mons 2147483647 days 00:00:00.000007", false},
		{1186, interval(least, 1<<31, 1<<31), "-infinity", false},
		{1186, interval(least, 1<<31, 0xFFFFFFFF), "-1 mons -2147483648 days -2562047788:00:54.775808", false},
		{1186, interval(least, 0xFFFFFFFF, 1<<31), "-178956970 years -8 mons -1 days -2562047788:00:54.775808", false},
		{1186, interval(0, 1<<31, 1<<31), "-178956970 years -8 mons -2147483648 days", false},
		{1186, interval(0, 0, 0xFFFFFFFF-10), "-11 mons", false},
		{1186, interval(1, 0xFFFFFFFF, 12), "1 year -1 days +00:00:00.000001", false},
		{1266, append(le(0, 0), le(0)...), "00:00:00+00", false},
		{790, le(0, 0), "0.00", false}, {790, le(0, 1<<31), "-92233720368547758.08", false},
		{18, []byte{127}, "\x7f", false}, {18, []byte{128}, `\200`, false},
		{23, le(1, 2), "", true}, {16, []byte{}, "", true},
		{1700, le16(0x8000, 10_000), "", true}, {1700, le16(0x8000, 9_999), "9999", false},
		{1700, le16(0x4003, 0, 7, 5000), "-7.500", false}, {1700, le16(0x0004, 0xFFFF, 1), "0.0001", false},
		{1700, le16(0x8000 | 4<<7), "0.0000", false}, {1700, append(le16(0x8000, 7), 1), "", true},
		{1560, append(le(8), 0xA5), "10100101", false}, {1560, append(le(9), 0xA5), "", true}, {1560, le(0xFFFFFFFF), "", true},
		{869, []byte{2, 32, 10, 0, 0, 1}, "10.0.0.1", false}, {869, []byte{2, 33, 10, 0, 0, 1}, "", true},
		{869, []byte{3, 32, 10, 0, 0, 1}, "", true}, {869, []byte{4, 8}, "", true},
		{869, append([]byte{3, 128}, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xfe, 1, 2, 3, 4), "::fffe:102:304", false},
		{869, append([]byte{3, 128}, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 2, 3, 4), "1::102:304", false},
		{869, append([]byte{3, 128}, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0), "::", false},
		{3614, append(append(le(1), word(0, 2, 0)...), "ab"...), "'ab'", false},
		{3614, append(append(le(1), word(1, 2, 0)...), "ab"...), "", true},
		{3614, append(append(le(1), word(0, 2, 1)...), "ab"...), "", true},
		{3614, append(append(append(le(1), word(0, 2, 1)...), "ab"...), le16(1, 3<<14|7)...), "'ab':7A", false},
		{3614, append(append(append(le(1), word(0, 2, 1)...), "ab"...), le16(2, 3<<14|7)...), "", true},
		{3614, append(append(append(le(2), word(0, 2, 1)...), word(0, 1, 0)...), append([]byte("ab"), le16(1, 3)...)...), "'ab':3 'a'",
			false},
		{3614, le(1 << 30), "", true},
		{3615, query(value(0, 2)), "'ab'", false}, {3615, query(value(1, 2)), "", true}, {3615, query(value(0, 1), value(1, 1)), "", true},
		{3615, query(not, value(0, 2)), "!'ab'", false}, {3615, query(not, not, value(1, 1)), "!!'b'", false},
		{3615, query(not), "", true}, {3615, query(append([]byte{2, 9, 0, 0}, le(2, 0)...), value(0, 1), value(1, 1)), "", true},
		{3802, le(jsonArray), "[]", false}, {3802, le(jsonObject | jsonArray), "{}", false}, {3802, le(0), "", true},
		{3802, le(jsonArray | 1), "", true}, {3802, le(jsonArray | jsonScalar | 2), "", true},
		{3802, append(le(jsonArray|1, entryNested|4), le(jsonArray)...), "[[]]", false},
		{3802, append(le(jsonArray|1, entryNested|5), le(jsonArray)...), "", true},
		{3802, le(jsonArray|1, 0x60000000), "", true}, {3802, le(jsonArray|2, entryTrue, entryOffset|entryFalse), "[true, false]", false},
		{3904, append(le(3904, 7), rangeUpperOpen|rangeLowerIn), "[7,)", false}, {3904, append(le(25, 7), 0), "", true},
		{3904, append(le(99_999, 7), 0), "", true}, {3904, append(le(3904), 0), "", true}, {3904, nil, "", true},
		{4451, le(4451, 0), "{}", false}, {4451, le(23, 0), "", true}, {4451, le(4451, 1<<31), "", true},
		{1007, le(1, 0, 99_999, 1, 1), "", true}, {1007, le(7, 0, 23), "", true}, {1007, le(1, 0, 23, 1<<31, 1), "", true},
		{1007, le(1, 0, 23, 1, 1, 5), "{5}", false}, {1007, le(1, 0, 23, 1, 2, 5), "[2:2]={5}", false},
		{1007, le(1, 0, 23, 2, 1, 5), "", true},
		{1007, le(0, 0, 23), "{}", false}, {1007, le(1, 24, 23, 1, 1, 0), "{NULL}", false},
	} {
		k := kinds[c.oid]
		text, err := k.write(c.b)
		assert.Equal(t, c.bad, err != nil, "%d %v: %s", c.oid, c.b, text)
		if !c.bad {
			assert.Equal(t, c.want, text, "%d %v", c.oid, c.b)
		}
	}
	for b, want := range map[string]bool{"\x07ab": true, "\x01\x12": false, string(le(6<<2|2)) + "ab": false, "\x09ab": false} {
		_, ok := Chunk([]byte(b))
		assert.Equal(t, want, ok, "%q", b)
	}
	cells, err := Read([]Column{{Name: "c", Type: 25, Length: -2, Align: "c"}, flag}, Row{Columns: 2, Body: []byte("ab\x00\x01")}, nothing)
	require.NoError(t, err)
	assert.Equal(t, []Cell{{Column: "c", Text: "ab"}, {Column: "flag", Text: "t"}}, cells)
	_, err = Read([]Column{{Name: "c", Type: 25, Length: -2, Align: "c"}}, Row{Columns: 1, Body: []byte("ab")}, nothing)
	require.ErrorIs(t, err, errRow)
}
