package value

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

var (
	errValue    = errors.New("not a value of its type")
	errForeign  = errors.New("a type that is not decoded")
	errLong     = errors.New("a value that is too long")
	errEncoding = errors.New("text that is not decoded")
)

// kind is how values of one of the server's own types lie and are written.
type kind struct {
	length  int16
	align   string
	text    func([]byte) (string, error)
	element uint32 // of a range
}

func (k *kind) write(b []byte) (string, error) {
	if k.length > 0 && len(b) != int(k.length) {
		return "", errValue
	}
	return k.text(b)
}

// fixed makes a kind whose values are all of one length, read with r.
func fixed(length int16, align string, text func(*bytesAt) string) *kind {
	return &kind{length: length, align: align, text: func(b []byte) (string, error) { return text(&bytesAt{b: b}), nil }}
}

// varying makes a kind of values of any length; text reads one that is followed by nothing else.
func varying(align string, text func(*bytesAt) string) *kind {
	return &kind{length: -1, align: align, text: func(b []byte) (string, error) {
		r := &bytesAt{b: b}
		s := text(r)
		if r.bad || r.at != len(b) {
			return "", errValue
		}
		return s, nil
	}}
}

var texts = &kind{length: -1, align: "i", text: func(b []byte) (string, error) { return string(b), nil }}

// number is a 32-bit number without a sign: of what the catalogs give a name, that is not known here.
var number = fixed(4, "i", func(r *bytesAt) string { return strconv.FormatUint(uint64(r.u32()), 10) })

// kinds are the types by their oids (catalog/pg_type.dat). Not among them are aclitem and jsonpath, and those of which a
// table can have no column.
var kinds map[uint32]*kind

func init() {
	kinds = map[uint32]*kind{
		16: fixed(1, "c", func(r *bytesAt) string { return map[bool]string{true: "t", false: "f"}[r.u8() != 0] }),
		17: {length: -1, align: "i", text: func(b []byte) (string, error) { return `\x` + hex.EncodeToString(b), nil }},
		18: fixed(1, "c", func(r *bytesAt) string { return charText(r.u8()) }),
		19: {length: 64, align: "c", text: func(b []byte) (string, error) {
			name, _, _ := bytes.Cut(b, []byte{0})
			return string(name), nil
		}},
		20: fixed(8, "d", func(r *bytesAt) string { return strconv.FormatInt(int64(r.u64()), 10) }),
		21: fixed(2, "s", func(r *bytesAt) string { return strconv.Itoa(int(int16(r.u16()))) }),
		23: fixed(4, "i", func(r *bytesAt) string { return strconv.Itoa(int(int32(r.u32()))) }),
		25: texts, 114: texts, 142: texts, 1042: texts, 1043: texts, 1790: texts,
		26: number, 28: number, 29: number, 24: number, 2202: number, 2203: number, 2204: number, 2205: number, 2206: number,
		3734: number, 3769: number, 4089: number, 4096: number, 4191: number,
		27: fixed(6, "s", func(r *bytesAt) string {
			return fmt.Sprintf("(%d,%d)", uint32(r.u16())<<16|uint32(r.u16()), r.u16())
		}),
		600:  fixed(16, "d", point),
		601:  fixed(32, "d", func(r *bytesAt) string { return "[" + points(r, 2) + "]" }),
		602:  varying("d", path),
		603:  fixed(32, "d", func(r *bytesAt) string { return points(r, 2) }),
		604:  varying("d", polygon),
		628:  fixed(24, "d", func(r *bytesAt) string { return "{" + float(r) + "," + float(r) + "," + float(r) + "}" }),
		650:  varying("i", func(r *bytesAt) string { return network(r, true) }),
		700:  fixed(4, "i", func(r *bytesAt) string { return float32Text(r.u32()) }),
		701:  fixed(8, "d", float),
		718:  fixed(24, "d", func(r *bytesAt) string { return "<" + point(r) + "," + float(r) + ">" }),
		774:  fixed(8, "i", hardware),
		790:  fixed(8, "d", money),
		829:  fixed(6, "i", hardware),
		869:  varying("i", func(r *bytesAt) string { return network(r, false) }),
		1082: fixed(4, "i", date),
		1083: fixed(8, "d", func(r *bytesAt) string { return clock(int64(r.u64())) }),
		1114: fixed(8, "d", func(r *bytesAt) string { return timestamp(int64(r.u64()), "") }),
		1184: fixed(8, "d", func(r *bytesAt) string { return timestamp(int64(r.u64()), "+00") }),
		1186: fixed(16, "d", interval),
		1266: fixed(12, "d", clockWithZone),
		1560: varying("i", bits), 1562: varying("i", bits),
		1700: varying("i", numeric),
		2950: fixed(16, "c", uuid),
		2970: varying("d", snapshot), 5038: varying("d", snapshot),
		3220: fixed(8, "d", func(r *bytesAt) string { low, high := r.u32(), r.u32(); return fmt.Sprintf("%X/%X", high, low) }),
		3614: varying("i", searchVector),
		3615: varying("i", searchQuery),
		3802: varying("i", jsonbText),
		5069: fixed(8, "d", func(r *bytesAt) string { return strconv.FormatUint(r.u64(), 10) }),
		22:   {length: -1, align: "i", text: func(b []byte) (string, error) { return arrayText(b, true) }},
		30:   {length: -1, align: "i", text: func(b []byte) (string, error) { return arrayText(b, true) }},
	}
	for _, r := range ranges {
		kinds[r.oid] = &kind{length: -1, align: r.align, text: rangeText, element: r.element}
		kinds[r.multi] = &kind{length: -1, align: r.align, text: multirangeText, element: r.element}
	}
	for _, oid := range arrays {
		kinds[oid] = &kind{length: -1, align: "i", text: func(b []byte) (string, error) { return arrayText(b, false) }}
	}
}

// charText writes a byte of type "char" as servers from 16 on do; older ones write bytes above 127 as they are.
func charText(c byte) string {
	switch {
	case c == 0:
		return ""
	case c > 127:
		return fmt.Sprintf(`\%03o`, c)
	}
	return string(rune(c))
}

func uuid(r *bytesAt) string {
	s := hex.EncodeToString(r.take(16))
	return strings.Join([]string{s[:8], s[8:12], s[12:16], s[16:20], s[20:]}, "-")
}

// hardware writes a MAC address.
func hardware(r *bytesAt) string {
	var parts []string
	for _, c := range r.rest() {
		parts = append(parts, fmt.Sprintf("%02x", c))
	}
	return strings.Join(parts, ":")
}

// bits writes a bit string.
func bits(r *bytesAt) string {
	n := int(int32(r.u32()))
	b := r.rest()
	if n < 0 || (n+7)/8 != len(b) {
		r.bad = true
		return ""
	}
	var s strings.Builder
	for i := range n {
		s.WriteByte('0' + b[i/8]>>(7-i%8)&1)
	}
	return s.String()
}

// snapshot writes a pg_snapshot: the oldest id that runs, the next one, those that run.
func snapshot(r *bytesAt) string {
	n := int(r.u32())
	s := fmt.Sprintf("%d:%d:", r.u64(), r.u64())
	for i := 0; i < n && !r.bad; i++ {
		if i > 0 {
			s += ","
		}
		s += strconv.FormatUint(r.u64(), 10)
	}
	return s
}
