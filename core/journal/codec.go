package journal

import (
	"encoding/binary"
	"errors"
	"slices"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// ErrFormat says that bytes are no index or chapter, or one of a newer format.
var ErrFormat = errors.New("not a journal index of a known format")

// writer appends numbers as LEB128 varints (encoding/binary); signed ones zigzag.
// Texts are numbered where they first appear and written once, in front of the rest.
type writer struct {
	b     []byte
	texts map[string]uint64
	list  []string
}

func newWriter() *writer { return &writer{texts: make(map[string]uint64)} }

func (w *writer) int(v int64)        { w.uint(uint64(v<<1) ^ uint64(v>>63)) }
func (w *writer) lsn(l pg.LSN)       { w.uint(uint64(l)) }
func (w *writer) time(t time.Time)   { w.int(pg.ToTimestamp(t)) }
func (w *writer) bytes(b []byte)     { w.uint(uint64(len(b))); w.b = append(w.b, b...) }
func (w *writer) count(n int)        { w.uint(uint64(n)) }
func (w *writer) xids(list []pg.XID) { w.count(len(list)); appendAll(w, list) }
func (w *writer) oids(list []uint32) { w.count(len(list)); appendAll(w, list) }

func (w *writer) uint(v uint64) {
	if v < 0x80 { // most numbers are small
		w.b = append(w.b, byte(v))
		return
	}
	w.b = binary.AppendUvarint(w.b, v)
}

// reserve makes room for what is written next, at least as much as there was: append alone would copy a long ledger often.
func (w *writer) reserve(n int) {
	if cap(w.b)-len(w.b) < n {
		w.b = slices.Grow(w.b, max(n, cap(w.b), firstRoom))
	}
}

// firstRoom is what is made room for at first, in bytes.
const firstRoom = 16 << 10

func appendAll[T ~uint32](w *writer, list []T) {
	for _, v := range list {
		w.uint(uint64(v))
	}
}

func (w *writer) bool(v bool) {
	if v {
		w.b = append(w.b, 1)
	} else {
		w.b = append(w.b, 0)
	}
}

func (w *writer) text(s string) {
	n, ok := w.texts[s]
	if !ok {
		n = uint64(len(w.list))
		w.texts[s], w.list = n, append(w.list, s)
	}
	w.uint(n)
}

func (w *writer) relation(r wal.RelationRef) {
	w.uint(uint64(r.Space))
	w.uint(uint64(r.Database))
	w.uint(uint64(r.Filenode))
}

// seal puts the magic and the texts in front.
func (w *writer) seal(magic string) []byte {
	head := newWriter()
	head.count(len(w.list))
	for _, s := range w.list {
		head.bytes([]byte(s))
	}
	out := append([]byte(magic), head.b...)
	return append(out, w.b...)
}

// parser reads what a writer wrote; once something is wrong, everything is zero.
type parser struct {
	b     []byte
	texts []string
	bad   bool
	// format is the version of the format, and kinds how many kinds of operations it counts: of a later one, those that
	// are not known here are passed over.
	format byte
	kinds  int
}

// kindsOfFormat1 is how many kinds were counted when that was not written.
const kindsOfFormat1 = 7

// unseal begins to read below a magic, whose last byte is the newest version of the format.
func unseal(b []byte, magic string) (*parser, error) {
	n := len(magic) - 1
	if len(b) <= n || string(b[:n]) != magic[:n] || b[n] < 1 || b[n] > magic[n] {
		return nil, ErrFormat
	}
	p := &parser{b: b[n+1:], format: b[n]}
	p.texts = make([]string, p.count())
	for i := range p.texts {
		p.texts[i] = string(p.bytes())
	}
	return p, p.err()
}

func (p *parser) err() error {
	if p.bad {
		return ErrFormat
	}
	return nil
}

func (p *parser) fail() { p.b, p.bad = nil, true }

func (p *parser) uint() uint64 {
	if len(p.b) > 0 && p.b[0] < 0x80 { // most numbers are small
		v := p.b[0]
		p.b = p.b[1:]
		return uint64(v)
	}
	v, n := binary.Uvarint(p.b)
	if n <= 0 {
		p.fail()
		return 0
	}
	p.b = p.b[n:]
	return v
}

func (p *parser) int() int64 {
	v := p.uint()
	return int64(v>>1) ^ -int64(v&1)
}

func (p *parser) u32() uint32 {
	v := p.uint()
	if v > 1<<32-1 {
		p.fail()
		return 0
	}
	return uint32(v)
}

// count reads how many items follow, each of at least one byte.
func (p *parser) count() int {
	n := p.uint()
	if n > uint64(len(p.b)) {
		p.fail()
		return 0
	}
	return int(n)
}

func (p *parser) bytes() []byte {
	n := p.count()
	v := p.b[:n]
	p.b = p.b[n:]
	return v
}

func (p *parser) bool() bool      { return p.uint() != 0 }
func (p *parser) lsn() pg.LSN     { return pg.LSN(p.uint()) }
func (p *parser) time() time.Time { return pg.Timestamp(p.int()) }

// countOf reads the count of a kind.
func (p *parser) countOf(c *Counts, k int) int64 {
	n := p.int()
	if k < Operations {
		c[k] = n
	}
	return n
}

func (p *parser) text() string {
	n := p.uint()
	if n >= uint64(len(p.texts)) {
		p.fail()
		return ""
	}
	return p.texts[n]
}

func (p *parser) relation() wal.RelationRef {
	return wal.RelationRef{Space: p.u32(), Database: p.u32(), Filenode: p.u32()}
}
func (p *parser) xids() []pg.XID { return readAll[pg.XID](p) }
func (p *parser) oids() []uint32 { return readAll[uint32](p) }

func readAll[T ~uint32](p *parser) []T {
	n := p.count()
	if n == 0 {
		return nil
	}
	list := make([]T, n)
	for i := range list {
		list[i] = T(p.u32())
	}
	return list
}
