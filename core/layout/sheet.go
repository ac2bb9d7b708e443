package layout

import (
	"encoding/binary"
	"fmt"
)

// Extent says where ExtentSize bytes of a file are, or of its end fewer. One without a
// pack is all zeroes, and stored nowhere.
type Extent struct {
	Pack   string // id
	Offset int64  // of its frame in the pack as first written
	Length int    // of the frame, with its header
	Hash   Hash   // of the content, with the cluster's hash key
}

// Zero tells that an extent holds zeroes alone.
func (e Extent) Zero() bool { return e.Pack == "" }

// SheetExtents is how many extents a sheet holds at most: 128 MiB of a file. A file's
// map is its sheets in turn, of which all but the last are full.
const SheetExtents = 1024

// sheetVersion begins every sheet.
const sheetVersion = 1

// AppendSheet encodes extents: a byte for the version; a list of pack ids, each a length
// and its bytes; and a list of extents. An extent is the number of its pack from 1 on
// (0: zeroes, and nothing follows), the signed distance of its offset from the end of
// the extent before in the same pack, the length of its frame, and its hash. Numbers are
// LEB128 varints, signed ones zigzag; a list is a count and its items.
func AppendSheet(dst []byte, extents []Extent) []byte {
	dst = append(dst, sheetVersion)
	number := make(map[string]uint64)
	var ids []string
	for _, e := range extents {
		if !e.Zero() && number[e.Pack] == 0 {
			ids = append(ids, e.Pack)
			number[e.Pack] = uint64(len(ids))
		}
	}
	dst = binary.AppendUvarint(dst, uint64(len(ids)))
	for _, id := range ids {
		dst = append(binary.AppendUvarint(dst, uint64(len(id))), id...)
	}
	dst = binary.AppendUvarint(dst, uint64(len(extents)))
	ends := make([]int64, len(ids)+1)
	for _, e := range extents {
		n := number[e.Pack]
		dst = binary.AppendUvarint(dst, n)
		if n == 0 {
			continue
		}
		dst = binary.AppendVarint(dst, e.Offset-ends[n])
		dst = binary.AppendUvarint(dst, uint64(e.Length))
		dst = append(dst, e.Hash[:]...)
		ends[n] = e.Offset + int64(e.Length)
	}
	return dst
}

// DecodeSheet appends the extents of a sheet to dst.
func DecodeSheet(b []byte, dst []Extent) ([]Extent, error) {
	d := sheetDecoder{rest: b}
	if v := d.bytes(1); d.bad || v[0] != sheetVersion {
		return nil, fmt.Errorf("%w: not a sheet, or of another version", ErrCorrupt)
	}
	ids := make([]string, d.count(SheetExtents)+1)
	for i := range ids[1:] {
		ids[i+1] = string(d.bytes(d.count(200)))
	}
	ends := make([]int64, len(ids))
	for range d.count(SheetExtents) {
		n := d.number()
		if n >= uint64(len(ids)) || d.bad {
			return nil, fmt.Errorf("%w: a sheet that cannot be read", ErrCorrupt)
		}
		if n == 0 {
			dst = append(dst, Extent{})
			continue
		}
		e := Extent{Pack: ids[n], Offset: ends[n] + d.signed()}
		e.Length = d.count(FrameHeader + maxStored)
		copy(e.Hash[:], d.bytes(len(e.Hash)))
		ends[n] = e.Offset + int64(e.Length)
		dst = append(dst, e)
		if e.Offset < HeaderSize || e.Length < FrameHeader || e.Zero() {
			d.bad = true
		}
	}
	if d.bad || len(d.rest) > 0 {
		return nil, fmt.Errorf("%w: a sheet that cannot be read", ErrCorrupt)
	}
	return dst, nil
}

// sheetDecoder reads a sheet's parts; what is not there is zero, and bad is set.
type sheetDecoder struct {
	rest []byte
	bad  bool
}

func (d *sheetDecoder) number() uint64 {
	v, n := binary.Uvarint(d.rest)
	if n <= 0 {
		d.bad, n = true, 0
	}
	d.rest = d.rest[n:]
	return v
}

func (d *sheetDecoder) signed() int64 {
	v, n := binary.Varint(d.rest)
	if n <= 0 {
		d.bad, n = true, 0
	}
	d.rest = d.rest[n:]
	return v
}

func (d *sheetDecoder) count(most int) int {
	v := d.number()
	if v > uint64(most) {
		d.bad, v = true, 0
	}
	return int(v)
}

func (d *sheetDecoder) bytes(n int) []byte {
	if n > len(d.rest) {
		d.bad = true
		return make([]byte, n)
	}
	b := d.rest[:n]
	d.rest = d.rest[n:]
	return b
}
