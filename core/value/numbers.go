package value

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// floatText writes a number in the fewest digits that mean it, as float8out does.
func floatText(f float64, size, exponentFrom int) string {
	switch {
	case math.IsNaN(f):
		return "NaN"
	case math.IsInf(f, 1):
		return "Infinity"
	case math.IsInf(f, -1):
		return "-Infinity"
	}
	s := strconv.FormatFloat(f, 'e', -1, size)
	mantissa, exponent, _ := strings.Cut(s, "e")
	n, _ := strconv.Atoi(exponent)
	if n < -4 || n >= exponentFrom {
		return fmt.Sprintf("%se%s%02d", mantissa, exponent[:1], max(n, -n))
	}
	return strconv.FormatFloat(f, 'f', -1, size)
}

func float32Text(bits uint32) string { return floatText(float64(math.Float32frombits(bits)), 32, 6) }

func float(r *bytesAt) string { return floatText(math.Float64frombits(r.u64()), 64, 15) }

// money is written as a number: its currency is not in the value.
func money(r *bytesAt) string {
	n := int64(r.u64())
	u := uint64(n)
	sign := ""
	if n < 0 {
		u, sign = -u, "-"
	}
	return fmt.Sprintf("%s%d.%02d", sign, u/100, u%100)
}

// numeric reads a number of digits to the base of 10,000 (utils/adt/numeric.c).
func numeric(r *bytesAt) string {
	head := r.u16()
	var negative bool
	var scale, weight int
	switch {
	case head&0xF000 == 0xC000:
		return "NaN"
	case head&0xF000 == 0xD000:
		return "Infinity"
	case head&0xF000 == 0xF000:
		return "-Infinity"
	case head&0x8000 != 0:
		negative, scale, weight = head&0x2000 != 0, int(head&0x1F80>>7), int(head&0x3F)
		if head&0x40 != 0 {
			weight -= 64
		}
	default:
		negative, scale, weight = head&0x4000 != 0, int(head&0x3FFF), int(int16(r.u16()))
	}
	var digits []uint16
	for r.at < len(r.b) && !r.bad {
		d := r.u16()
		if d > 9999 {
			r.bad = true
		}
		digits = append(digits, d)
	}
	return numericText(negative, digits, weight, scale)
}

func numericText(negative bool, digits []uint16, weight, scale int) string {
	digit := func(i int) string {
		if i < 0 || i >= len(digits) {
			return "0000"
		}
		return fmt.Sprintf("%04d", digits[i])
	}
	var s strings.Builder
	for i := 0; i <= weight; i++ {
		s.WriteString(digit(i))
	}
	whole := strings.TrimLeft(s.String(), "0")
	if whole == "" {
		whole = "0"
	}
	if negative {
		whole = "-" + whole
	}
	if scale == 0 {
		return whole
	}
	s.Reset()
	for i := weight + 1; s.Len() < scale; i++ {
		s.WriteString(digit(i))
	}
	return whole + "." + s.String()[:scale]
}

// network writes an address, of a cidr always with the length of its prefix.
func network(r *bytesAt, cidr bool) string {
	family, length := r.u8(), int(r.u8())
	b := r.rest()
	if want := map[byte]int{2: 4, 3: 16}[family]; len(b) != want || want == 0 || length > 8*want {
		r.bad = true
		return ""
	}
	s := dotted(b)
	if len(b) == 16 {
		s = address6(b)
	}
	if cidr || length != 8*len(b) {
		s += "/" + strconv.Itoa(length)
	}
	return s
}

func dotted(b []byte) string { return fmt.Sprintf("%d.%d.%d.%d", b[0], b[1], b[2], b[3]) }

// address6 writes an address of 16 bytes with its longest run of zeroes left out, and one of the fourth version that it
// holds with dots (port/inet_net_ntop.c).
func address6(b []byte) string {
	words := make([]uint16, 8)
	for i := range words {
		words[i] = uint16(b[2*i])<<8 | uint16(b[2*i+1])
	}
	begin, length := -1, 1
	for i := range words {
		n := i
		for n < 8 && words[n] == 0 {
			n++
		}
		if n-i > length {
			begin, length = i, n-i
		}
	}
	var s strings.Builder
	for i := 0; i < 8; i++ {
		switch {
		case i == begin:
			s.WriteString("::")
			i += length - 1
			continue
		case i == 6 && begin == 0 && (length == 6 || length == 5 && words[5] == 0xffff):
			return map[int]string{5: "::ffff:", 6: "::"}[length] + dotted(b[12:])
		case i > 0 && i != begin+length:
			s.WriteByte(':')
		}
		s.WriteString(strconv.FormatUint(uint64(words[i]), 16))
	}
	return s.String()
}

func point(r *bytesAt) string { return "(" + float(r) + "," + float(r) + ")" }

func points(r *bytesAt, n int) string {
	var list []string
	for i := 0; i < n && !r.bad; i++ {
		list = append(list, point(r))
	}
	return strings.Join(list, ",")
}

func path(r *bytesAt) string {
	n, closed := int(int32(r.u32())), r.u32() != 0
	r.u32() // padding
	if closed {
		return "(" + points(r, n) + ")"
	}
	return "[" + points(r, n) + "]"
}

func polygon(r *bytesAt) string {
	n := int(int32(r.u32()))
	r.take(32) // the box around it
	return "(" + points(r, n) + ")"
}
