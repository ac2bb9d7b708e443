package value

import (
	"encoding/binary"
	"strconv"
	"strings"
)

// ranges are the types of ranges, of ranges of several parts, and of their bounds.
var ranges = []struct {
	oid, multi, element uint32
	align               string
}{
	{3904, 4451, 23, "i"}, {3906, 4532, 1700, "i"}, {3908, 4533, 1114, "d"}, {3910, 4534, 1184, "d"}, {3912, 4535, 1082, "i"},
	{3926, 4536, 20, "d"},
}

// arrays are the types of arrays of the types of kinds.
var arrays = []uint32{
	143, 199, 271, 629, 651, 719, 775, 791, 1000, 1001, 1002, 1003, 1005, 1006, 1007, 1008, 1009, 1010, 1011, 1012, 1013, 1014, 1015,
	1016, 1017, 1018, 1019, 1020, 1021, 1022, 1027, 1028, 1040, 1041, 1115, 1182, 1183, 1185, 1187, 1231, 1270, 1561, 1563, 2201,
	2207, 2208, 2209, 2210, 2211, 2949, 2951, 3221, 3643, 3645, 3735, 3770, 3807, 3905, 3907, 3909, 3911, 3913, 3927, 4090, 4097, 4192,
	5039, 6150, 6151, 6152, 6153, 6155, 6157,
}

// whole reads a value from the beginning of its header on, for what lies in it is aligned to that.
func whole(b []byte) *bytesAt { return &bytesAt{b: append(make([]byte, 4, 4+len(b)), b...), at: 4} }

// mostElements bounds an array, as the server does.
const mostElements = 1 << 27

// arrayText writes an array (utils/adt/arrayfuncs.c); a vector, which is one of the catalogs' own, without braces.
func arrayText(b []byte, vector bool) (string, error) {
	r := whole(b)
	dimensions, offset, oid := int(int32(r.u32())), int(int32(r.u32())), r.u32()
	k, known := kinds[oid]
	if !known {
		return "", errForeign
	}
	if dimensions < 0 || dimensions > 6 {
		return "", errValue
	}
	sizes, bounds := make([]int, dimensions), make([]int, dimensions)
	n, shifted := min(dimensions, 1), false
	for i := range sizes {
		if sizes[i] = int(int32(r.u32())); sizes[i] < 0 || n*sizes[i] > mostElements {
			return "", errValue
		}
		n *= sizes[i]
	}
	for i := range bounds {
		bounds[i] = int(int32(r.u32()))
		shifted = shifted || bounds[i] != 1
	}
	var nulls []byte
	if offset != 0 {
		nulls = r.take((n + 7) / 8)
		r.at = offset
	} else {
		r.align("d")
	}
	if n > 8*len(b) || r.bad {
		return "", errValue
	}
	elements := make([]string, n)
	for i := range elements {
		if nulls != nil && nulls[i/8]&(1<<(i%8)) == 0 {
			elements[i] = "NULL"
			continue
		}
		text, err := k.one(r)
		if err != nil {
			return "", err
		}
		elements[i] = quotedElement(text, oid)
	}
	if vector {
		return strings.Join(elements, " "), nil
	}
	if dimensions == 0 {
		return "{}", nil
	}
	prefix := ""
	if shifted {
		for i := range sizes {
			prefix += "[" + strconv.Itoa(bounds[i]) + ":" + strconv.Itoa(bounds[i]+sizes[i]-1) + "]"
		}
		prefix += "="
	}
	delimiter := ","
	if oid == box {
		delimiter = ";"
	}
	text, _ := nested(elements, sizes, delimiter)
	return prefix + text, nil
}

// one reads one of several values that follow one another.
func (k *kind) one(r *bytesAt) (string, error) {
	d := r.next(k.length, k.align)
	if r.bad || d.outside != nil {
		return "", errValue
	}
	b, err := d.plain()
	if err != nil {
		return "", err
	}
	return k.write(b)
}

// box is the one type whose values in an array are not parted by commas.
const box = 603

// nested writes elements in as many braces as there are sizes, and gives back those that are left.
func nested(elements []string, sizes []int, delimiter string) (string, []string) {
	parts := make([]string, sizes[0])
	for i := range parts {
		if len(sizes) == 1 {
			parts[i], elements = elements[0], elements[1:]
		} else {
			parts[i], elements = nested(elements, sizes[1:], delimiter)
		}
	}
	return "{" + strings.Join(parts, delimiter) + "}", elements
}

// quotedElement quotes an element where it could be read as something else (array_out).
func quotedElement(s string, oid uint32) string {
	special := "\"{}\\,"
	if oid == box {
		special = "\"{}\\;"
	}
	if s != "" && !strings.EqualFold(s, "NULL") && !strings.ContainsAny(s, special+" \t\n\r\v\f") {
		return s
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// Flags of ranges (utils/rangetypes.h).
const (
	rangeEmpty     = 0x01
	rangeLowerIn   = 0x02
	rangeUpperIn   = 0x04
	rangeLowerOpen = 0x08 // without end
	rangeUpperOpen = 0x10
)

func rangeText(b []byte) (string, error) {
	r := whole(b)
	k, known := kinds[r.u32()]
	if !known || k.element == 0 || len(b) < 5 {
		return "", errForeign
	}
	flags := b[len(b)-1]
	r.b = r.b[:len(r.b)-1]
	return span(r, kinds[k.element], flags)
}

// span reads the bounds of a range that follow.
func span(r *bytesAt, k *kind, flags byte) (string, error) {
	if flags&rangeEmpty != 0 {
		return "empty", nil
	}
	s := map[bool]string{true: "[", false: "("}[flags&rangeLowerIn != 0]
	for i, open := range []byte{rangeLowerOpen, rangeUpperOpen} {
		if i == 1 {
			s += ","
		}
		if flags&open != 0 {
			continue
		}
		text, err := k.one(r)
		if err != nil {
			return "", err
		}
		s += quotedBound(text)
	}
	return s + map[bool]string{true: "]", false: ")"}[flags&rangeUpperIn != 0], nil
}

func quotedBound(s string) string {
	if s != "" && !strings.ContainsAny(s, "\"\\()[], \t\n\r\v\f") {
		return s
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `""`).Replace(s) + `"`
}

// multirangeText writes a range of several parts (utils/adt/multirangetypes.c): where each begins, as an offset or a
// length, then the flags of each, then their bounds.
func multirangeText(b []byte) (string, error) {
	r := whole(b)
	k, known := kinds[r.u32()]
	n := int(r.u32())
	if !known || k.element == 0 {
		return "", errForeign
	}
	if r.bad || n < 0 || n > len(b) {
		return "", errValue
	}
	const isOffset = 1 << 31
	begins, at := make([]int, n), 0
	for i := 1; i < n; i++ {
		item := r.u32()
		if item&isOffset != 0 {
			at = 0
		}
		at += int(item &^ isOffset)
		begins[i] = at
	}
	flags := r.take(n)
	element := kinds[k.element]
	r.align(element.align)
	first := r.at
	parts := make([]string, n)
	for i := range parts {
		if r.bad || begins[i] > len(r.b) {
			return "", errValue
		}
		r.at = first + begins[i]
		text, err := span(r, element, flags[i])
		if err != nil {
			return "", err
		}
		parts[i] = text
	}
	return "{" + strings.Join(parts, ",") + "}", nil
}

// littleEndian reads a number at a place that is known to be there.
func littleEndian(b []byte, at int) uint32 { return binary.LittleEndian.Uint32(b[at:]) }
