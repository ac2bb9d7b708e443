// Package value reads the columns of a row as they lie on disk, and writes each as the server does: with its default
// settings, in the zone UTC.
//
// Invariant: what is returned as a value is what the server would show. Of whatever is not known, of types that are not
// the server's own, and of bytes that cannot be right, there is no value but the reason why. What the columns of a table
// are, and where a row is found, is the caller's business.
package value

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/pierrec/lz4/v4"

	"velvetrewind/core/pg"
)

// Column is a column of a table, as pg_attribute has it. Those that were dropped still have their place in rows.
type Column struct {
	Name     string `json:"name,omitempty"`
	Type     uint32 `json:"type,omitempty"` // oid; of a domain that of the type beneath it
	TypeName string `json:"typeName,omitempty"`
	Length   int16  `json:"length"` // in bytes; -1 for one that differs, -2 for a C string
	Align    string `json:"align"`  // c, s, i or d: of 1, 2, 4 or 8 bytes
	Dropped  bool   `json:"dropped,omitempty"`
	Virtual  bool   `json:"virtual,omitempty"` // computed when it is read
	// Missing is the value in rows that are older than the column; nil for NULL. MissingUnknown: that is not known.
	Missing        *string `json:"missing,omitempty"`
	MissingUnknown bool    `json:"missingUnknown,omitempty"`
	// Encoding is that of the database's texts, as the server calls it; "" for UTF-8.
	Encoding string `json:"encoding,omitempty"`
	// Labels are those of an enum, by oid.
	Labels map[uint32]string `json:"labels,omitempty"`
}

// Row is a row without its fixed header.
type Row struct {
	Columns int    // that it has; those after them were added later
	Nulls   []byte // a bit for each column, 0 for NULL; nil where none is
	Body    []byte
}

// Cell is the value of one column.
type Cell struct {
	Column string
	Text   string
	Null   bool
	Why    string // there is no value, for this reason; "" where there is one
}

// Pointer is a value that is kept outside its row (varatt_external).
type Pointer struct {
	Size  int    // in bytes, as it is stored; compressed where that is less than Raw
	Raw   int    // in bytes, when decompressed
	ID    uint32 // by which its chunks are found
	Table uint32 // oid of the TOAST table
}

// Outside finds the stored bytes of a value that is kept outside its row; ok is false where they are not known.
type Outside func(Pointer) (stored []byte, ok bool)

// Chunk gives the bytes of a part of such a value, which is the last column of its row; ok is false where they are none.
func Chunk(b []byte) (content []byte, ok bool) {
	r := bytesAt{b: b}
	d := r.varlena()
	return d.b, !r.bad && !d.compressed && d.outside == nil
}

var errRow = errors.New("the row's bytes do not fit the table's columns")

// Read gives the values of a row, one for each column that was not dropped. An error says that the row cannot be one of
// this table.
func Read(columns []Column, r Row, outside Outside) (cells []Cell, err error) {
	if r.Columns > len(columns) || r.Nulls != nil && len(r.Nulls)*8 < r.Columns {
		return nil, errRow
	}
	b := bytesAt{b: r.Body}
	for i, c := range columns {
		cell := Cell{Column: c.Name}
		switch {
		case i >= r.Columns:
			cell.missing(c)
		case r.Nulls != nil && r.Nulls[i/8]&(1<<(i%8)) == 0:
			cell.Null = true
		default:
			v := b.next(c.Length, c.Align)
			if b.bad {
				return nil, errRow
			}
			cell.take(c, v, outside)
		}
		if c.Virtual {
			cell = Cell{Column: c.Name, Why: "computed when it is read, and not stored"}
		}
		if !c.Dropped {
			cells = append(cells, cell)
		}
	}
	return cells, nil
}

// missing gives the value of a column that is younger than its row.
func (c *Cell) missing(of Column) {
	switch {
	case of.MissingUnknown:
		c.Why = "the column is younger than the row, and the value that it was added with is not known"
	case of.Missing != nil:
		c.Text = *of.Missing
	default:
		c.Null = true
	}
}

// take gives the value of a column that lies in the row.
func (c *Cell) take(of Column, v datum, outside Outside) {
	if of.Dropped {
		return
	}
	if v.outside != nil {
		stored, ok := outside(*v.outside)
		if !ok {
			c.Why = fmt.Sprintf("%d bytes that are kept outside the row and are not in the WAL that was read", v.outside.Raw)
			return
		}
		v = v.outside.datum(stored)
	}
	text, err := textOf(of, v)
	if err == nil && of.Labels == nil { // which are in UTF-8 already
		text, err = InUTF8(text, of.Encoding)
	}
	switch {
	case errors.Is(err, errEncoding):
		c.Why = fmt.Sprintf("text in the encoding %s, which is not decoded", cmp.Or(of.Encoding, "UTF8"))
	case errors.Is(err, errLong):
		c.Why = fmt.Sprintf("a value of more than %d MiB", longest>>20)
	case errors.Is(err, errForeign):
		c.Why = fmt.Sprintf("a value of type %s, which is not decoded", of.TypeName)
	case err != nil:
		c.Why = fmt.Sprintf("its bytes are no value of type %s", of.TypeName)
	default:
		c.Text = text
	}
}

// datum is a value's bytes, without the header that tells their length.
type datum struct {
	b          []byte
	compressed bool
	outside    *Pointer
}

// datum is what the stored bytes of a pointer are.
func (p Pointer) datum(stored []byte) datum { return datum{b: stored, compressed: p.Size < p.Raw} }

// textOf writes a value of a column.
func textOf(of Column, v datum) (string, error) {
	b, err := v.plain()
	if err != nil {
		return "", err
	}
	if of.Labels != nil {
		label, known := of.Labels[binary.LittleEndian.Uint32(padded(b, 4))]
		if !known {
			return "", errForeign
		}
		return label, nil
	}
	k, known := kinds[of.Type]
	if !known {
		return "", errForeign
	}
	return k.write(b)
}

// padded is b, or as many zeroes where it is shorter than n.
func padded(b []byte, n int) []byte {
	if len(b) < n {
		return make([]byte, n)
	}
	return b
}

// mostRaw bounds a value, as the server does, and longest what is decompressed here: an owner of a database can store a
// gigabyte in a few bytes.
const (
	mostRaw = 1 << 30
	longest = 16 << 20
)

// plain gives the bytes as they are when they are not compressed.
func (d datum) plain() ([]byte, error) {
	if !d.compressed {
		return d.b, nil
	}
	if len(d.b) < 4 {
		return nil, errValue
	}
	info := binary.LittleEndian.Uint32(d.b)
	size := int(info & (mostRaw - 1))
	if size > 255*len(d.b)+64 { // neither method packs closer
		return nil, errValue
	}
	if size > longest {
		return nil, errLong
	}
	var out []byte
	var err error
	switch info >> 30 {
	case 0:
		out, err = pg.UnpackPGLZ(d.b[4:], size)
	case 1:
		out = make([]byte, size)
		var n int
		n, err = lz4.UncompressBlock(d.b[4:], out)
		out = out[:max(n, 0)]
	default:
		err = errValue
	}
	if err == nil && len(out) != size {
		err = errValue
	}
	return out, err
}

// bytesAt reads values one after the other, each aligned to the beginning of b.
type bytesAt struct {
	b   []byte
	at  int
	bad bool
}

var alignments = map[string]int{"c": 1, "s": 2, "i": 4, "d": 8}

// align skips padding.
func (r *bytesAt) align(to string) {
	n, known := alignments[to]
	if !known {
		r.bad = true
		return
	}
	r.at = (r.at + n - 1) / n * n
}

// take gives the next n bytes.
func (r *bytesAt) take(n int) []byte {
	if r.bad || n < 0 || r.at > len(r.b) || n > len(r.b)-r.at {
		r.bad = true
		return nil
	}
	r.at += n
	return r.b[r.at-n : r.at]
}

func (r *bytesAt) u8() byte     { return padded(r.take(1), 1)[0] }
func (r *bytesAt) u16() uint16  { return binary.LittleEndian.Uint16(padded(r.take(2), 2)) }
func (r *bytesAt) u32() uint32  { return binary.LittleEndian.Uint32(padded(r.take(4), 4)) }
func (r *bytesAt) u64() uint64  { return binary.LittleEndian.Uint64(padded(r.take(8), 8)) }
func (r *bytesAt) rest() []byte { return r.take(len(r.b) - r.at) }

// next reads a value of a length and alignment, as fetchatt in access/tupmacs.h does.
func (r *bytesAt) next(length int16, align string) datum {
	switch {
	case length == -1 && r.at < len(r.b) && r.b[r.at] != 0: // a short header stands where it stands
	default:
		r.align(align)
	}
	switch {
	case length >= 0:
		return datum{b: r.take(int(length))}
	case length == -2:
		begin := r.at
		for !r.bad && r.u8() != 0 {
			continue
		}
		if r.bad {
			return datum{}
		}
		return datum{b: r.b[begin : r.at-1]}
	}
	return r.varlena()
}

// Forms of values whose length differs (varatt.h).
const (
	onDisk      = 18 // VARTAG_ONDISK
	pointerSize = 16
)

func (r *bytesAt) varlena() datum {
	first := r.u8()
	switch {
	case first == 1:
		if r.u8() != onDisk {
			r.bad = true
		}
		raw, info := r.u32(), r.u32()
		p := Pointer{Raw: int(raw) - 4, Size: int(info & (mostRaw - 1)), ID: r.u32(), Table: r.u32()}
		if p.Raw < 0 || p.Size > p.Raw {
			r.bad = true
		}
		return datum{outside: &p}
	case first&1 == 1:
		return datum{b: r.take(int(first>>1) - 1)}
	}
	r.at--
	header := r.u32()
	return datum{b: r.take(int(header>>2) - 4), compressed: header&3 == 2}
}
