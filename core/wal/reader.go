package wal

import (
	"bufio"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"

	"velvetrewind/core/pg"
)

// ErrUnwritten says that the WAL so far ends here, and zeroes follow: the
// reserved rest of a segment that the server has not filled.
var ErrUnwritten = errors.New("the written WAL ends here")

// Options tell a Reader what its bytes must be.
type Options struct {
	Start       pg.LSN // address of the first byte; a multiple of PageSize
	SegmentSize pg.SegmentSize
	SystemID    uint64 // of the cluster; 0 accepts any
	// From goes on at a record that is known to begin there, on the first page: the
	// Position of a reader before. 0 begins with the first record of the first page.
	From pg.LSN
	Prev pg.LSN // where the record before From begins; 0 if that is not known
}

// PageOf is the beginning of the page that an address lies on.
func PageOf(l pg.LSN) pg.LSN { return l &^ (PageSize - 1) }

// Reader turns a stream of WAL bytes into records. It holds one page and, while a record
// crosses pages, what is kept of that record: of the longest only the beginning.
type Reader struct {
	src  *bufio.Reader
	opt  Options
	page []byte // the current page, from its header on; may be short at the end of the source
	at   pg.LSN // address of page
	next pg.LSN // address of the page after it
	off  int    // offset of the next record in page

	head  pageHeader
	prev  pg.LSN // start of the record before, once one is known
	cross crossing
	rec   Record
}

// MaxRecord bounds the length of a record, as the server does (XLogRecordMaxSize).
const MaxRecord = 1020 << 20

// NewReader reads records from src, which begins at opt.Start.
func NewReader(src io.Reader, opt Options) *Reader {
	r := &Reader{src: bufio.NewReaderSize(src, 32*PageSize), opt: opt, next: opt.Start, prev: opt.Prev}
	r.waitFor(opt.Start)
	return r
}

// waitFor sets the position to the beginning of a page that is not there yet, or to
// the record on it from which to go on.
func (r *Reader) waitFor(page pg.LSN) {
	r.at, r.off = page, 0
	if from := r.opt.From; from > page && from < page+PageSize {
		r.off = int(from - page)
	}
}

// Position is where the next record would begin: the end of the last whole one.
func (r *Reader) Position() pg.LSN {
	if r.cross.total > 0 {
		return r.cross.start
	}
	return r.at + pg.LSN(r.off)
}

// Needs is the page from which on the Reader, when its source has ended, needs more.
func (r *Reader) Needs() pg.LSN {
	if r.page != nil && len(r.page) < PageSize {
		return r.at
	}
	return r.next
}

// Resume goes on with a source that begins at Needs, after the one before has ended. Of a record
// that was read in part what was read is not read again.
func (r *Reader) Resume(src io.Reader) {
	from, at := r.Position(), r.Needs()
	r.src.Reset(src)
	r.page, r.next = nil, at
	if r.cross.total > 0 {
		return
	}
	if r.opt.From = from; from >= at+PageSize || from < at {
		r.opt.From = 0
	}
	r.waitFor(at)
}

// Version is that of the server that wrote the current page; nil before the first.
func (r *Reader) Version() *pg.Version { return r.head.version }

// Next returns the next whole record, valid until Next is called again. When the
// source ends, in a record or after one, it is io.EOF; where the rest was never
// written, ErrUnwritten; a record or page that cannot be right is a *Damage.
func (r *Reader) Next() (*Record, error) {
	for {
		if r.cross.total == 0 && (r.page == nil || r.off >= PageSize) {
			if err := r.openAtRecord(); err != nil {
				return nil, err
			}
		}
		raw, start, err := r.assemble()
		if err != nil {
			if errors.Is(err, errOverwritten) {
				continue
			}
			return nil, err
		}
		if err := r.rec.decode(raw, r.head.version); err != nil {
			return nil, damaged(start, "%v", err)
		}
		r.finish(start)
		return &r.rec, nil
	}
}

// finish notes the position after the record and skips the rest of the segment after a switch.
func (r *Reader) finish(start pg.LSN) {
	r.off = align(r.off)
	r.rec.Start, r.rec.End = start, r.Position()
	r.rec.Timeline = r.head.timeline
	r.prev = start
	if r.rec.Manager == ManagerXLOG && r.rec.Info&0xf0 == xlogSwitch {
		z := r.opt.SegmentSize
		if z.Offset(r.rec.End) != 0 {
			r.rec.End = z.Start(z.Number(r.rec.End) + 1)
		}
		r.skipTo(r.rec.End)
	}
}

// skipTo leaves the bytes up to the page at address to unread and unchecked.
func (r *Reader) skipTo(to pg.LSN) {
	// A source that ends before is noticed when the next page is asked for.
	_, _ = io.CopyN(io.Discard, r.src, int64(len(r.page))+int64(to-r.next))
	r.page, r.off = nil, 0
	r.at, r.next = to, to
}

// openAtRecord moves on to the next page on which a record begins.
func (r *Reader) openAtRecord() error {
	for {
		if err := r.openPage(); err != nil {
			return err
		}
		if from := r.opt.From; from > r.at && from < r.next {
			r.off = max(r.off, int(from-r.at))
			return nil
		}
		if r.head.flags&flagContinuation == 0 {
			return nil
		}
		room := PageSize - r.head.size
		if int(r.head.remaining) < room {
			r.off = r.head.size + align(int(r.head.remaining))
			if r.off < PageSize {
				return nil
			}
		}
	}
}

// openPage reads the next page and its header, and sets off after the header.
func (r *Reader) openPage() error {
	if r.page != nil {
		if _, err := r.src.Discard(len(r.page)); err != nil {
			return err
		}
		r.page = nil
	}
	page, err := r.src.Peek(PageSize)
	if len(page) == 0 {
		r.waitFor(r.next)
		if err == nil || errors.Is(err, io.EOF) {
			return io.EOF
		}
		return err
	}
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if allZero(page[:min(len(page), shortHeader)]) {
		r.waitFor(r.next)
		return ErrUnwritten
	}
	need := shortHeader
	if r.opt.SegmentSize.Offset(r.next) == 0 {
		need = longHeader
	}
	if len(page) < need {
		return io.EOF
	}
	h, err := parsePage(page, r.next)
	if err != nil {
		return err
	}
	if err := r.belongs(h); err != nil {
		return err
	}
	r.page, r.at, r.next, r.head, r.off = page, r.next, r.next+PageSize, h, h.size
	return nil
}

// belongs checks that a page is of this cluster.
func (r *Reader) belongs(h pageHeader) error {
	first := r.opt.SegmentSize.Offset(h.address) == 0
	switch {
	case first && h.size != longHeader:
		return damaged(h.address, "the first page of a segment lacks its long header")
	case h.size != longHeader:
		return nil
	case r.opt.SystemID != 0 && h.systemID != r.opt.SystemID:
		return damaged(h.address, "the segment belongs to the cluster with system identifier %d, not %d", h.systemID, r.opt.SystemID)
	case h.segmentSize != r.opt.SegmentSize:
		return damaged(h.address, "segments of %d bytes, %d expected", h.segmentSize, r.opt.SegmentSize)
	}
	return nil
}

// errOverwritten means that the server crashed within a record and later wrote
// past its beginning; the next record begins on the current page.
var errOverwritten = errors.New("record overwritten")

// assemble gathers the bytes of the record at off, over as many pages as it takes.
func (r *Reader) assemble() (raw []byte, start pg.LSN, err error) {
	if r.cross.total > 0 {
		return r.goOn()
	}
	start = r.Position()
	if r.off+4 > len(r.page) {
		return nil, start, io.EOF
	}
	total := int(binary.LittleEndian.Uint32(r.page[r.off:]))
	if total == 0 {
		return nil, start, ErrUnwritten
	}
	if total < recordHeader || total > MaxRecord {
		return nil, start, damaged(start, "impossible record length %d", total)
	}
	if end := r.off + total; end <= len(r.page) {
		raw = r.page[r.off:end]
		r.off = end
		return raw, start, r.check(crc32.Update(0, pg.Castagnoli, raw[recordHeader:]), raw, start)
	}
	if len(r.page) < PageSize {
		return nil, start, io.EOF
	}
	r.cross.begin(start, total)
	r.cross.add(r.page[r.off:])
	r.off = PageSize
	return r.goOn()
}

// goOn gathers the rest of a record that crosses pages. Where the source ends first, it goes on
// from there when there is more.
func (r *Reader) goOn() (raw []byte, start pg.LSN, err error) {
	c := &r.cross
	start = c.start
	for c.got < c.total {
		if err := r.openPage(); err != nil {
			return nil, start, err
		}
		if r.head.flags&flagOverwritesLost != 0 {
			c.total = 0
			return nil, start, errOverwritten
		}
		rest := c.total - c.got
		if r.head.flags&flagContinuation == 0 || int(r.head.remaining) != rest {
			return nil, start, damaged(r.at, "the record at %s should go on here with %d bytes", start, rest)
		}
		take := min(rest, PageSize-r.off)
		if r.off+take > len(r.page) {
			return nil, start, io.EOF
		}
		c.add(r.page[r.off : r.off+take])
		r.off += take
	}
	c.total = 0
	return c.kept, start, r.check(c.crc, c.kept, start)
}

// check verifies the CRC, given that of all that follows the header, and the link to the record before.
func (r *Reader) check(crc uint32, raw []byte, start pg.LSN) error {
	crc = crc32.Update(crc, pg.Castagnoli, raw[:recordCRC])
	if stored := binary.LittleEndian.Uint32(raw[recordCRC:]); crc != stored {
		return damaged(start, "record CRC %08X expected, %08X found", crc, stored)
	}
	prev := pg.LSN(binary.LittleEndian.Uint64(raw[recordPrev:]))
	if r.prev != 0 && prev != r.prev {
		return damaged(start, "the record says that the one before it is at %s, but that is at %s", prev, r.prev)
	}
	return nil
}

func align(n int) int { return (n + 7) &^ 7 }

func allZero(b []byte) bool {
	for _, c := range b {
		if c != 0 {
			return false
		}
	}
	return true
}
