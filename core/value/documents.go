package value

import (
	"fmt"
	"strconv"
	"strings"
)

// Containers and entries of jsonb (utils/jsonb.h).
const (
	jsonCount    = 0x0FFFFFFF
	jsonScalar   = 0x10000000
	jsonObject   = 0x20000000
	jsonArray    = 0x40000000
	entryLength  = 0x0FFFFFFF
	entryType    = 0x70000000
	entryString  = 0x00000000
	entryNumeric = 0x10000000
	entryFalse   = 0x20000000
	entryTrue    = 0x30000000
	entryNull    = 0x40000000
	entryNested  = 0x50000000
	entryOffset  = 0x80000000

	deepestJSON = 10_000
)

func jsonbText(r *bytesAt) string {
	var s strings.Builder
	if !jsonContainer(&s, r.rest(), 0) {
		r.bad = true
	}
	return s.String()
}

// jsonContainer writes an object or an array; false where its bytes are none.
func jsonContainer(s *strings.Builder, b []byte, depth int) bool {
	if len(b) < 4 || depth > deepestJSON {
		return false
	}
	head := littleEndian(b, 0)
	n, object := int(head&jsonCount), head&jsonObject != 0
	entries := n
	if object {
		entries = 2 * n
	}
	if entries > len(b)/4-1 || !object && head&jsonArray == 0 || head&jsonScalar != 0 && n != 1 {
		return false
	}
	c := jsonEntries{b: b[4 : 4+4*entries], base: b[4+4*entries:]}
	values := make([][2]int, entries) // begin and end
	at := 0
	for i := range values {
		values[i][0] = at
		length := littleEndian(c.b, 4*i)
		if length&entryOffset != 0 {
			at = 0
		}
		at += int(length & entryLength)
		if values[i][1] = at; at < values[i][0] || at > len(c.base) {
			return false
		}
	}
	if head&jsonScalar != 0 {
		return c.write(s, 0, values[0], depth)
	}
	s.WriteByte(map[bool]byte{true: '{', false: '['}[object])
	for i := range n {
		if i > 0 {
			s.WriteString(", ")
		}
		value := i
		if object {
			if !c.write(s, i, values[i], depth) {
				return false
			}
			s.WriteString(": ")
			value = n + i
		}
		if !c.write(s, value, values[value], depth) {
			return false
		}
	}
	s.WriteByte(map[bool]byte{true: '}', false: ']'}[object])
	return true
}

type jsonEntries struct{ b, base []byte }

// write writes the value of an entry.
func (c *jsonEntries) write(s *strings.Builder, i int, at [2]int, depth int) bool {
	aligned := min((at[0]+3)/4*4, at[1])
	switch littleEndian(c.b, 4*i) & entryType {
	case entryString:
		jsonString(s, string(c.base[at[0]:at[1]]))
	case entryNumeric:
		n := bytesAt{b: c.base[aligned:at[1]]}
		d := n.varlena()
		text, err := kinds[1700].text(d.b)
		if n.bad || err != nil || d.outside != nil {
			return false
		}
		s.WriteString(text)
	case entryFalse:
		s.WriteString("false")
	case entryTrue:
		s.WriteString("true")
	case entryNull:
		s.WriteString("null")
	case entryNested:
		return jsonContainer(s, c.base[aligned:at[1]], depth+1)
	default:
		return false
	}
	return true
}

// jsonString quotes text as escape_json does.
func jsonString(s *strings.Builder, text string) {
	short := map[byte]string{'\b': `\b`, '\f': `\f`, '\n': `\n`, '\r': `\r`, '\t': `\t`, '"': `\"`, '\\': `\\`}
	s.WriteByte('"')
	for i := range len(text) {
		c := text[i]
		if is, has := short[c]; has {
			s.WriteString(is)
		} else if c < ' ' {
			fmt.Fprintf(s, `\u%04x`, c)
		} else {
			s.WriteByte(c)
		}
	}
	s.WriteByte('"')
}

func quotedLexeme(b []byte) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", "''").Replace(string(b)) + "'"
}

// searchVector writes a tsvector (tsearch/ts_type.h): entries, then the words, each with its places after it.
func searchVector(r *bytesAt) string {
	n := int(r.u32())
	if n > len(r.b)/4 {
		r.bad = true
		return ""
	}
	entries := make([]uint32, n)
	for i := range entries {
		entries[i] = r.u32()
	}
	words := r.rest()
	parts := make([]string, n)
	for i, e := range entries {
		hasPlaces, length, at := e&1 != 0, int(e>>1&0x7FF), int(e>>12)
		if at+length > len(words) {
			r.bad = true
			return ""
		}
		parts[i] = quotedLexeme(words[at : at+length])
		if !hasPlaces {
			continue
		}
		places := bytesAt{b: words, at: (at + length + 1) / 2 * 2}
		for k := range int(places.u16()) {
			place := places.u16()
			parts[i] += map[bool]string{true: ":", false: ","}[k == 0]
			parts[i] += strconv.Itoa(int(place&0x3FFF)) + []string{"", "C", "B", "A"}[place>>14]
			if places.bad {
				break
			}
		}
		if places.bad {
			r.bad = true
			return ""
		}
	}
	return strings.Join(parts, " ")
}

// Items of a tsquery, and how strongly each operator binds.
const (
	queryValue = 1
	queryItem  = 12

	queryNot    = 1
	queryAnd    = 2
	queryOr     = 3
	queryPhrase = 4
)

var binding = map[byte]int{queryNot: 4, queryAnd: 2, queryOr: 1, queryPhrase: 3}

// searchQuery writes a tsquery: items, each operator before its right and its left side, then the words.
func searchQuery(r *bytesAt) string {
	n := int(r.u32())
	if n == 0 {
		return ""
	}
	q := query{r: r, items: r.take(n * queryItem)}
	q.words = r.rest()
	s := q.write(-1, false, 0)
	if len(q.items) != 0 {
		r.bad = true
	}
	return s
}

type query struct {
	r            *bytesAt
	items, words []byte
}

func (q *query) write(parent int, rightOfPhrase bool, depth int) string {
	if len(q.items) < queryItem || depth > deepestJSON {
		q.r.bad = true
		return ""
	}
	item := q.items[:queryItem]
	q.items = q.items[queryItem:]
	if item[0] == queryValue {
		return q.operand(item)
	}
	operator := item[1]
	own := binding[operator]
	parentheses := own < parent || operator == queryPhrase && rightOfPhrase
	var s string
	if operator == queryNot {
		s = "!" + q.write(own, false, depth+1)
	} else {
		right := q.write(own, operator == queryPhrase, depth+1)
		s = q.write(own, false, depth+1)
		switch distance := int(int16(uint16(item[2]) | uint16(item[3])<<8)); {
		case operator == queryAnd:
			s += " & "
		case operator == queryOr:
			s += " | "
		case operator == queryPhrase && distance == 1:
			s += " <-> "
		case operator == queryPhrase:
			s += fmt.Sprintf(" <%d> ", distance)
		default:
			q.r.bad = true
		}
		s += right
	}
	if parentheses {
		return "( " + s + " )"
	}
	return s
}

func (q *query) operand(item []byte) string {
	weight, prefix := item[1], item[2] != 0
	where := littleEndian(item, 8)
	length, at := int(where&0xFFF), int(where>>12)
	if at+length > len(q.words) {
		q.r.bad = true
		return ""
	}
	s := quotedLexeme(q.words[at : at+length])
	if weight == 0 && !prefix {
		return s
	}
	s += ":"
	if prefix {
		s += "*"
	}
	for i, name := range "ABCD" {
		if weight&(8>>i) != 0 {
			s += string(name)
		}
	}
	return s
}
